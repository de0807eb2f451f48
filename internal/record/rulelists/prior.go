package rulelists

import (
	"errors"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// Until is until when, in served time, the last of lists waits that stand around a
// repository; 0 where none ever did.
func Until[F rule.Named](lists []rule.List[F]) (until int64) {
	for _, list := range lists {
		until = max(until, int64(list.Acts))
		for _, r := range list.Rules {
			until = max(until, int64(r.Acts))
		}
	}
	return until
}

// Prior returns the lists that stand around a repository as they were before those of them
// were changed that wait at a moment of served time.
func (c *Compiled[F]) Prior(l Lists, namespace, repository int64, name oci.Name, served int64) (lists []rule.List[F], err error) {
	for _, k := range []Key{{Kind: c.kind.Name}, {Kind: c.kind.Name, NamespaceID: namespace}, {Kind: c.kind.Name, RepositoryID: repository}} {
		there, err := l.Get(k)
		if errors.Is(err, ErrNone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		list, err := c.prior(l, there, served)
		if err != nil {
			return nil, err
		}
		list.Of = SayPlace(k.NamespaceID, k.RepositoryID, name)
		lists = append(lists, list)
	}
	return lists, nil
}

func (c *Compiled[F]) prior(l Lists, there List, served int64) (rule.List[F], error) {
	list, err := c.Read(there.Level(), there.ActingWords(served))
	if err != nil {
		return list, err
	}
	list.ID, list.Acts = there.ID, time.Duration(there.ActsServed)
	named := map[string]rule.List[F]{}
	for _, name := range list.Uses() {
		used, err := l.Get(Key{Kind: there.Kind, Name: name})
		if errors.Is(err, ErrNone) {
			// A list that was used before may be gone.
			continue
		}
		if err != nil {
			return list, err
		}
		if named[name], err = c.Read(rule.OfName, used.ActingWords(served)); err != nil {
			return list, err
		}
	}
	return list.With(named), nil
}

// ActingWords is what the list said before, while it waits at a moment of served time, and
// what it says otherwise.
func (l List) ActingWords(served int64) string {
	if l.Waits(served) {
		return l.PriorWords
	}
	return l.Words
}
