package record

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm/logger"

	"warthesis/internal/record/schema"
)

// TellDamage writes into the audit log what damage of the records is known and not told there
// yet. Where nobody knows in which table it is, a complete check looks for it first; between is
// called often during that, and ends it by an error.
func (s *Store) TellDamage(ctx context.Context, between func(bytes int) error) error {
	fresh := s.untold()
	if len(fresh) == 0 {
		return nil
	}
	if slices.ContainsFunc(fresh, func(d Damage) bool { return d.Table == "" && !d.sought }) {
		if _, err := s.CheckIntegrity(ctx, -1, between); err != nil {
			return err
		}
		fresh = s.untold()
		// Should telling fail, as on a full disk, nothing is read again for that.
		s.integrity.each(fresh, func(d *Damage) { d.sought = true })
	}
	err := s.Update(ctx, "damage", func(tx *Tx) error {
		for _, d := range fresh {
			if err := tx.Log(Event{Kind: EventRecordsDamaged, Subject: "records", Detail: d.String() + ". " + DamageRemedy}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.integrity.each(fresh, func(d *Damage) { d.Told = true })
	return nil
}

func (s *Store) untold() []Damage {
	return slices.DeleteFunc(s.Damages(), func(d Damage) bool { return d.Told })
}

// each changes what is noted of damages.
func (in *integrity) each(all []Damage, change func(*Damage)) {
	in.mu.Lock()
	defer in.mu.Unlock()
	for i, d := range in.damages {
		if slices.ContainsFunc(all, d.same) {
			change(&in.damages[i])
		}
	}
	in.keep()
}

// sign notes a sign of damage that says nothing about where it is. Once damage is known it says
// nothing new: each request that meets it would begin another complete check.
func (in *integrity) sign(d Damage) {
	in.mu.Lock()
	known := len(in.damages) > 0
	in.mu.Unlock()
	if !known {
		in.add(d)
	}
}

// damageLogger is the logger of the connections. It logs nothing: it notes each answer
// by which SQLite says that the records are damaged.
type damageLogger struct {
	logger.Interface
	integrity *integrity
}

func (l damageLogger) LogMode(logger.LogLevel) logger.Interface { return l }

func (l damageLogger) Trace(_ context.Context, _ time.Time, _ func() (string, int64), err error) {
	if err != nil && schema.IsDamage(err) {
		l.integrity.sign(Damage{What: err.Error()})
	}
}
