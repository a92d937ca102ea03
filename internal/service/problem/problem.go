package problem

import (
	"errors"
	"fmt"
	"strings"

	"lantern/internal/core/swap"
	"lantern/internal/nearest"
	"lantern/internal/store"
)

// Problem is an error for people: what is wrong and what to do (RFC 9457).
type Problem struct {
	Status int
	Type   string // stable
	Title  string
	Do     string
	// Permanent is true when the same request will always be refused.
	Permanent bool
}

func (p *Problem) Error() string { return p.Title + " " + p.Do }

// New makes a problem. title is a sentence, also where the text of another error is put into it.
func New(status int, kind, do, title string, args ...any) *Problem {
	return &Problem{Status: status, Type: kind, Title: sentence(fmt.Sprintf(title, args...)), Do: do}
}

// sentence gives a text one mark at its end, and a capital letter if it begins with a word that is never a name.
func sentence(s string) string {
	for _, twice := range []string{"?.", ".."} {
		if before, ok := strings.CutSuffix(s, twice); ok && !strings.HasSuffix(before, ".") {
			s = before + twice[:1]
		}
	}
	for _, word := range []string{"no ", "the ", "there ", "this ", "nothing "} {
		if strings.HasPrefix(s, word) {
			return strings.ToUpper(s[:1]) + s[1:]
		}
	}
	return s
}

// Missing is the problem of an unknown name; have are the known names.
func Missing(kind, what, name string, have []string) *Problem {
	return New(404, kind, "List them with: "+map[string]string{
		"host": "lantern host list", "pool": "lantern pools", "model": "lantern drives --columns model",
	}[what], "No %s %q%s", what, name, nearest.Meant(name, have))
}

// Forever is a problem that repeating the request does not solve.
func Forever(status int, kind, do, title string, args ...any) *Problem {
	p := New(status, kind, do, title, args...)
	p.Permanent = true
	return p
}

// As converts any error to a Problem. Internal details are left out of the answer.
func As(err error) *Problem {
	var p *Problem
	var r *swap.Refusal
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &r):
		return New(409, r.Type, r.Do, "%s", r.Says)
	case errors.Is(err, store.ErrFull):
		return New(
			507,
			"store-full",
			"Free space; nothing was lost, agents keep their reports until then.",
			"The disk under the database is full, so nothing was changed.",
		)
	case errors.Is(err, store.ErrUnwritable):
		return New(
			503,
			"store-unwritable",
			"Look at the disk under the service's records; agents keep their reports until then.",
			"The database cannot be written, so nothing was changed.",
		)
	}
	return New(500, "internal", "The service's log has the details.", "Something went wrong inside the service.")
}
