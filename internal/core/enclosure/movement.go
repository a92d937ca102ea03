package enclosure

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Whereabouts is the present and the previous place of a drive.
type Whereabouts struct {
	Key, Tail string
	Bay       string // now; empty when unknown
	Before    string // the previous bay; empty when there is none
	Since     time.Time
	Expected  bool // it was moved or added by a swap
}

// MoveKind is a kind of unexpected place.
type MoveKind string

// A drive is in another bay; two drives exchanged bays; two drives are reported in one bay.
const (
	Moved     MoveKind = "moved"
	Exchanged MoveKind = "exchanged"
	Claimed   MoveKind = "claimed twice"
)

// Move is one unexpected place, with what to do.
type Move struct {
	Kind     MoveKind
	Key      string // constant as long as the matter lasts
	Bay      string
	Drives   []string // keys
	Each     []string // the text for each, without its name in front
	Says, Do string
}

// MoveFor is how long a move is shown.
const MoveFor = 3 * 24 * time.Hour

// Movements gives the unexpected places of drives.
func Movements(all []Whereabouts, now time.Time) (out []Move) {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b Whereabouts) int { return cmp.Compare(a.Key, b.Key) })
	in := map[string][]Whereabouts{}
	for _, w := range all {
		if w.Bay != "" {
			in[w.Bay] = append(in[w.Bay], w)
		}
	}
	done := map[string]bool{}
	for _, w := range all {
		if others := in[w.Bay]; w.Bay != "" && len(others) > 1 && !done["bay "+w.Bay] {
			done["bay "+w.Bay] = true
			m := Move{
				Kind: Claimed,
				Key:  "claimed/" + w.Bay,
				Bay:  w.Bay,
				Do: "Look which label is in it, and say so: lantern enclosure confirm " + w.Bay + " <drive>. " +
					"Pull neither of them before that.",
			}
			tails := ""
			for i, o := range others {
				m.Drives = append(m.Drives, o.Key)
				if tails += o.Tail; i < len(others)-1 {
					tails += " and "
				}
			}
			m.Says = fmt.Sprintf("%s are both said to be in bay %s", tails, w.Bay)
			for _, o := range others {
				m.Each = append(m.Each, fmt.Sprintf("is said to be in bay %s, as is %s", w.Bay, withoutOne(others, o)))
			}
			out = append(out, m)
		}
	}
	for _, w := range all {
		if done[w.Key] || w.Expected || w.Before == "" || w.Bay == "" || now.Sub(w.Since) > MoveFor {
			continue
		}
		done[w.Key] = true
		if other, ok := exchanged(w, in[w.Before]); ok && now.Sub(other.Since) <= MoveFor {
			done[other.Key] = true
			out = append(
				out,
				Move{
					Kind:   Exchanged,
					Key:    "exchanged/" + w.Key,
					Bay:    w.Bay,
					Drives: []string{w.Key, other.Key},
					Each: []string{
						fmt.Sprintf("changed places with %s: it is in %s now", other.Tail, w.Bay),
						fmt.Sprintf("changed places with %s: it is in %s now", w.Tail, other.Bay),
					},
					Says: fmt.Sprintf(
						"%s and %s changed places: %s is in %s now, %s in %s",
						w.Tail,
						other.Tail,
						w.Tail,
						w.Bay,
						other.Tail,
						other.Bay,
					),
					Do: "If it was done on purpose, acknowledge this. If not, go by the labels, not by what was " +
						"written on the bays.",
				},
			)
			continue
		}
		out = append(
			out,
			Move{
				Kind:   Moved,
				Key:    "moved/" + w.Key,
				Bay:    w.Bay,
				Drives: []string{w.Key},
				Each:   []string{fmt.Sprintf("is in %s now; it was in %s", w.Bay, w.Before)},
				Says:   fmt.Sprintf("%s is in %s now; it was in %s", w.Tail, w.Bay, w.Before),
				Do: "If it was moved on purpose, acknowledge this. If not, find out who moved it: another " +
					"drive may be missing from its bay.",
			},
		)
	}
	return out
}

// withoutOne lists the tails of all but one, in words.
func withoutOne(all []Whereabouts, one Whereabouts) string {
	var tails []string
	for _, o := range all {
		if o.Key != one.Key {
			tails = append(tails, o.Tail)
		}
	}
	return strings.Join(tails, " and ")
}

// exchanged finds, among the drives in w's previous bay, one that was in w's present bay.
func exchanged(w Whereabouts, there []Whereabouts) (Whereabouts, bool) {
	for _, o := range there {
		if o.Before == w.Bay && o.Key != w.Key {
			return o, true
		}
	}
	return Whereabouts{}, false
}
