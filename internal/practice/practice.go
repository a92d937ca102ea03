// Package practice marks what comes of a practice on a lab copy, so that nobody takes a line of it for the truth.
package practice

import (
	"bytes"
	"io"
	"strings"
)

// Header is in every answer of a service that is a practice, and names the pool that it is a copy of.
const Header = "Lantern-Practice"

// Mark goes before every line.
const Mark = "REHEARSAL │ "

// Lines puts the mark before every line of a text.
func Lines(s string) string { return Mark + strings.ReplaceAll(s, "\n", "\n"+Mark) }

// Writer writes to W, with the mark before every line as soon as On says so. A nil On always does.
type Writer struct {
	W      io.Writer
	On     func() bool
	midway bool // within a line
}

// Write implements io.Writer; n counts what was given, without marks.
func (w *Writer) Write(b []byte) (n int, err error) {
	on := w.On == nil || w.On()
	for len(b) > 0 {
		line, rest, whole := bytes.Cut(b, []byte("\n"))
		out := line
		if on && !w.midway {
			out = append([]byte(Mark), line...)
		}
		if w.midway = !whole; whole {
			out = append(bytes.Clone(out), '\n')
		}
		if _, err := w.W.Write(out); err != nil {
			return n, err
		}
		n += len(b) - len(rest)
		b = rest
	}
	return n, nil
}
