package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAuditChain: a changed entry, one that was removed in the middle, two that were exchanged, a chain that was
// written anew, and, with a checkpoint, entries that were taken off the end: each is noticed.
func TestAuditChain(t *testing.T) {
	for name, harm := range map[string]func(s *Store){
		"":                 func(*Store) {},
		"was changed":      func(s *Store) { s.db.Exec("update audit_entries set who = 'eve' where number = 5") },
		"result":           func(s *Store) { s.db.Exec("update audit_entries set result = 'refused' where number = 10") },
		"were removed":     func(s *Store) { s.db.Exec("delete from audit_entries where number = 4") },
		"from the end":     func(s *Store) { s.db.Exec("delete from audit_entries where number > 8") },
		"exchanged":        func(s *Store) { exchange(s, 3, 4) },
		"were removed all": func(s *Store) { s.db.Exec("delete from audit_entries") },
		"anew": func(s *Store) {
			s.db.Exec("delete from audit_entries where number >= 9")
			for range 2 {
				_ = s.Write(&Batch{Audit: []*AuditEntry{{Who: "eve", At: time.Now()}}})
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			for i := range 10 {
				require.NoError(t, s.Write(&Batch{Audit: []*AuditEntry{{Who: fmt.Sprint("p", i), At: time.Now(), Action: "x"}}}))
			}
			c, err := s.VerifyAudit(0, "")
			require.NoError(t, err)
			require.Empty(t, c.Broken)
			require.EqualValues(t, 10, c.Number)
			harm(s)
			after, err := s.VerifyAudit(c.Number, c.Hash)
			require.NoError(t, err)
			require.Equal(t, name == "", after.Broken == "", after.Broken)
		})
	}
}

func exchange(s *Store, a, b int) {
	s.db.Exec("update audit_entries set number = -1 where number = ?", a)
	s.db.Exec("update audit_entries set number = ? where number = ?", a, b)
	s.db.Exec("update audit_entries set number = ? where number = -1", b)
}
