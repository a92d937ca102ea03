package people

import (
	"cmp"
	"time"

	"lantern/internal/api"
	"lantern/internal/store"
)

// Note adds an entry to the audit; its number, time and hashes are made when it is written.
func (s *State) Note(e api.AuditEntry) error {
	return s.Store.Write(&store.Batch{Audit: []*store.AuditEntry{{
		At: time.Now().UTC(), Who: e.Who, Role: e.Role, Address: e.From, Action: e.Action, Target: e.Target,
		Result: e.Result, Before: e.Before, After: e.After,
	}}})
}

// mostEntries is how many entries one answer holds.
const mostEntries = 5000

// Audit gives the entries after a number, in order, or only the newest ones, the newest first.
func (s *State) Audit(after int64, newest, limit int) ([]api.AuditEntry, error) {
	order, n := "number", cmp.Or(limit, 500)
	if newest > 0 {
		order, n = "number desc", newest
	}
	rows, err := store.Page[store.AuditEntry](s.Store, order, min(n, mostEntries), "number > ?", after)
	out := make([]api.AuditEntry, 0, len(rows))
	for _, e := range rows {
		out = append(out, api.AuditEntry{Number: e.Number, At: e.At, Who: e.Who, Role: e.Role, From: e.Address,
			Action: e.Action, Target: e.Target, Result: e.Result, Before: e.Before, After: e.After,
			Previous: e.Previous, Hash: e.Hash})
	}
	return out, err
}

// VerifyAudit reports whether all entries are unchanged; number and hash are of a checkpoint that was stored elsewhere,
// or zero.
func (s *State) VerifyAudit(number int64, hash string) (api.AuditVerdict, error) {
	chain, err := s.Store.VerifyAudit(number, hash)
	v := api.AuditVerdict{Sound: chain.Broken == "", Entries: chain.Entries, Number: chain.Number, Hash: chain.Hash,
		Says: cmp.Or(chain.Broken, "every entry is as it was written")}
	if v.Sound && number == 0 {
		v.Says += "; without a checkpoint that was kept elsewhere, entries removed from the end are not noticed"
	}
	return v, err
}
