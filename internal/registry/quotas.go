package registry

import (
	"context"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/quota"
	"warthesis/internal/registry/reserve"
)

// reserveStep is how many bytes of an upload that does not say its length may come before
// they are reserved.
const reserveStep = 64 << 20

// reserve reserves what an upload is to bring in all. It fails with *quota.Exceeded where
// that, with what other uploads are to bring, would go beyond a quota; what counts in the end
// is the change that holds the blob.
func (r *Registry) reserve(ctx context.Context, upload string, e reserve.Entry) error {
	if e.NamespaceID == 0 {
		return nil
	}
	return r.reserved.Grow(upload, e, func(others reserve.Others) error {
		view := r.records.View(ctx)
		namespace, err := view.Quota().Namespace(e.NamespaceID)
		if err == nil {
			err = fits(namespace, others.Namespace, e.Bytes)
		}
		if err != nil || e.AccountID == 0 {
			return err
		}
		account, err := view.Quota().Account(e.AccountID)
		if err != nil {
			return err
		}
		return fits(account, others.Account, e.Bytes)
	})
}

func fits(use quota.Use, others, adds int64) error {
	if use.Quota > 0 && use.Used+others+adds > use.Quota {
		return &quota.Exceeded{Use: use, Reserved: others, Adds: adds}
	}
	return nil
}

// adds reports whether a blob adds something to what the namespace of a repository holds.
func (r *Registry) adds(ctx context.Context, namespace int64, digest oci.Digest) bool {
	there, err := r.records.View(ctx).Quota().Has(namespace, digest)
	return err != nil || !there
}

// reserves is what a session is to bring, with bytes in all.
func (s *session) reserves(bytes int64) reserve.Entry {
	return reserve.Entry{NamespaceID: s.repository.NamespaceID, AccountID: s.recorded.AccountID, Bytes: bytes}
}

// QuotaNotice says that a quota around a repository is nearly full, "" where none is.
func (r *Registry) QuotaNotice(ctx context.Context, name oci.Name) string {
	in, err := r.records.Repository(ctx, name)
	if err != nil {
		return ""
	}
	view := r.records.View(ctx)
	for _, get := range []func() (quota.Use, error){
		func() (quota.Use, error) { return view.Quota().Namespace(in.NamespaceID) },
		func() (quota.Use, error) { return view.Quota().Account(callerOf(ctx).AccountID) },
		func() (quota.Use, error) { return view.Quota().Repository(in.ID) },
	} {
		if use, err := get(); err == nil && use.Nearly() {
			return quota.Warning{Use: use}.String()
		}
	}
	return ""
}

// SayNearly writes into the audit log which quotas are nearly full, each once until it is
// less so.
func (r *Registry) SayNearly(ctx context.Context) error {
	uses, err := r.records.View(ctx).Quota().Unsaid()
	if err != nil || len(uses) == 0 {
		return err
	}
	return r.records.Update(ctx, "quotas", func(tx *record.Tx) error {
		for _, use := range uses {
			first, err := tx.Quota().Said(use)
			if err != nil {
				return err
			}
			e := record.Event{Kind: record.EventQuotaNearly, Subject: use.Of + " " + use.Name, Detail: quota.Warning{Use: use}.String()}
			if use.Of == quota.OfNamespace {
				e.NamespaceID = use.ID
			}
			if !first {
				continue
			}
			if err := tx.Log(e); err != nil {
				return err
			}
		}
		return nil
	})
}

// Reserved is what open uploads are to bring to a namespace, in bytes.
func (r *Registry) Reserved(namespace int64) int64 { return r.reserved.Of(namespace) }
