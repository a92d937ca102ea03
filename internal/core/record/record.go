// Package record is what is kept of a procedure for people to read: what was looked at and with what result, and who
// did, said or saw what, and when.
package record

import "time"

// Result is what a check says.
type Result string

// A check that warns asks for a reason; one that stops cannot be talked over.
const (
	Passes Result = "passes"
	Warns  Result = "warns"
	Stops  Result = "stops"
)

// Check is one thing that was looked at, with its evidence: the same value in all three faces.
type Check struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	Looked string `json:"looked"` // at what
	Found  string `json:"found"`
	Do     string `json:"do,omitempty"`
	Result Result `json:"result"`
	// Loses are the volumes that would be lost: a person may accept that, by typing the pool's name (R1).
	Loses []string `json:"loses,omitempty"`
}

// Entry is one line of a record.
type Entry struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"` // a person's name, or Seen
	Says string    `json:"says"`
}

// Seen marks an entry that nobody did but that was observed.
const Seen = "seen"
