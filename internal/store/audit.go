package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// sum is the hash of an entry and the one before it: SHA-256 over the fields as a JSON list, so that different entries
// never give the same text.
func (e *AuditEntry) sum() string {
	b, err := json.Marshal([]any{
		e.Number, e.At.UTC().Format(time.RFC3339Nano), e.Who, e.Role, e.Address, e.Action, e.Target, e.Result,
		e.Before, e.After, e.Previous,
	})
	if err != nil {
		panic(err) // texts and numbers only
	}
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

// appendAudit adds entries to the chain.
func appendAudit(tx *gorm.DB, entries []*AuditEntry) error {
	if len(entries) == 0 {
		return nil
	}
	var last AuditEntry
	err := tx.Order("number desc").First(&last).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return err
	}
	for _, e := range entries {
		e.Number, e.Previous = last.Number+1, last.Hash
		e.At = e.At.UTC().Truncate(time.Microsecond) // as it is read back
		e.Hash = e.sum()
		if err := tx.Create(e).Error; err != nil {
			return err
		}
		last = *e
	}
	return nil
}

// Chain is the result of a check of the audit entries. Number and Hash are those of the newest.
type Chain struct {
	Entries, Number int64
	Hash            string
	Broken          string // what is wrong; empty if no entry was changed
}

// VerifyAudit goes through all entries. number and hash are those of a checkpoint that was kept elsewhere, or zero:
// with one, entries that were taken off the end are noticed as well.
func (s *Store) VerifyAudit(number int64, hash string) (c Chain, err error) {
	rows, err := s.db.Model(&AuditEntry{}).Order("number").Rows()
	if err != nil {
		return c, err
	}
	defer rows.Close()
	checked := number == 0
	for rows.Next() {
		var e AuditEntry
		if err := s.db.ScanRows(rows, &e); err != nil {
			return c, err
		}
		switch {
		case c.Broken != "":
		case e.Number != c.Number+1:
			c.Broken = fmt.Sprintf("after entry %d comes entry %d: entries were removed or reordered", c.Number, e.Number)
		case e.Previous != c.Hash:
			c.Broken = fmt.Sprintf("entry %d does not follow entry %d: one of them was changed", e.Number, c.Number)
		case e.sum() != e.Hash:
			c.Broken = fmt.Sprintf("entry %d was changed after it was written", e.Number)
		case e.Number == number && e.Hash != hash:
			c.Broken = fmt.Sprintf("entry %d is not the one of the checkpoint: the chain was written anew", e.Number)
		}
		checked = checked || e.Number == number
		c.Entries, c.Number, c.Hash = c.Entries+1, e.Number, e.Hash
	}
	if c.Broken == "" && !checked {
		c.Broken = fmt.Sprintf(
			"the newest entry is %d, and the checkpoint is of entry %d: entries were removed from the end",
			c.Number,
			number,
		)
	}
	return c, rows.Err()
}
