package access

import (
	"context"
	"fmt"

	"warthesis/internal/record"
)

// Settings returns the registry's settings.
func (a *Access) Settings() record.Settings { return a.records.Rights().Settings() }

// ChangeSettings changes the registry's settings.
func (a *Access) ChangeSettings(ctx context.Context, c Caller, s record.Settings) error {
	if err := a.Admin(c, "change the registry's settings"); err != nil {
		return err
	}
	s.ShortWindows = a.Settings().ShortWindows
	if err := a.checkWindow(s.RestoreWindow); err != nil {
		return err
	}
	e := c.Event(record.EventSettingsChanged)
	e.Detail = fmt.Sprintf("people make namespaces: %t, pushes make namespaces: %t, restore window: %s", s.AccountsMakeNamespaces, s.PushMakesNamespaces, sayWindow(s.RestoreWindow))
	return a.Change(ctx, c, e, func(tx *record.Tx) error { return tx.SaveSettings(s) })
}
