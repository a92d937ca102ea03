package service

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/notice"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Limits of a story.
const (
	usualStory  = 7 * 24 * time.Hour
	mostEntries = 5000
)

// The kinds of entries of a story.
const (
	storyObserved = "observed" // hosts reported it
	storyJudged   = "judged"   // a finding was raised, changed, or cleared
	storyTold     = "told"     // people were notified
	storySeen     = "seen"     // a person acknowledged it
	storyOrdered  = "ordered"  // an order to an agent
	storyDone     = "done"     // an action of a person
	storyUnknown  = "unknown"  // unknown from then until
)

// teller collects the entries of a story.
type teller struct {
	from, to time.Time
	subjects map[string]bool   // of events
	drives   map[string]string // tails by key
	hosts    map[string]bool
	pools    map[string]bool // ids
	names    map[string]bool // of pools
	entries  []api.StoryEntry
}

func (t *teller) say(at time.Time, what, who, says string) {
	if !at.Before(t.from) && at.Before(t.to) {
		t.entries = append(t.entries, api.StoryEntry{At: at.UTC(), What: what, Who: who, Says: says})
	}
}

// Story lists what happened to a drive, a pool or a host between two moments, from the records made then.
func (s *Service) Story(kind, name string, p api.GetStoryParams) (out api.Story, err error) {
	now := s.Clock.Now()
	t := &teller{
		from:     p.From,
		to:       p.To,
		subjects: map[string]bool{},
		drives:   map[string]string{},
		hosts:    map[string]bool{},
		pools:    map[string]bool{},
		names:    map[string]bool{},
	}
	if t.to.IsZero() || t.to.After(now) {
		t.to = now.Add(time.Second)
	}
	if t.from.IsZero() {
		t.from = t.to.Add(-usualStory)
	}
	if !t.from.Before(t.to) || t.to.Sub(t.from) > mostPeriod {
		return out, problem.New(
			422,
			"bad-span",
			"Such as from 2026-11-22 to 2026-11-29.",
			"A report covers a period of up to five years that has begun.",
		)
	}
	out = api.Story{Kind: kind, Name: name, From: t.from, To: t.to, Entries: []api.StoryEntry{}, Practice: s.practice()}
	if out.Title, err = s.concerned(t, kind, name); err != nil {
		return out, err
	}
	for _, part := range []func(*teller) error{s.storyEvents, s.storyFindings, s.storyNotices, s.storyOrders, s.storySwaps,
		s.storyRecoveries, s.storyPeople} {
		if err := part(t); err != nil {
			return out, err
		}
	}
	// Entries of one moment keep their order.
	slices.SortStableFunc(t.entries, func(a, b api.StoryEntry) int { return a.At.Compare(b.At) })
	t.entries = slices.CompactFunc(t.entries, func(a, b api.StoryEntry) bool { return a == b })
	if out.More = len(t.entries) > mostEntries; out.More {
		t.entries = t.entries[len(t.entries)-mostEntries:]
	}
	out.Entries = append(out.Entries, t.entries...)
	return out, nil
}

// concerned finds the drives, pools and hosts of a story.
func (s *Service) concerned(t *teller, kind, name string) (title string, err error) {
	switch kind {
	case "drive":
		title, err = s.aboutDrive(t, name)
	case "pool":
		title, err = s.aboutPool(t, name)
	case "host":
		title, err = s.aboutHost(t, name)
	default:
		return "", problem.New(422, "bad-question", "It is drive, pool or host.", "There are no reports on a %q.", kind)
	}
	for key := range t.drives {
		t.subjects[key] = true
	}
	for id := range t.pools {
		t.subjects[id] = true
	}
	for h := range t.hosts {
		t.subjects[h] = true
	}
	return title, err
}

// takeDrives adds matching drives to a story.
func (s *Service) takeDrives(t *teller, p api.ListDrivesParams) error {
	for p.Limit = 500; ; {
		found, err := s.Views.Drives(p)
		if err != nil {
			return err
		}
		for _, d := range found.Drives {
			t.drives[d.Key] = d.Tail
		}
		if p.Cursor = found.Next; p.Cursor == "" {
			return nil
		}
	}
}

func (s *Service) aboutDrive(t *teller, name string) (title string, err error) {
	d, err := s.Views.Drive(name)
	if err != nil {
		return "", err
	}
	t.drives[d.Key], t.hosts[d.Host] = d.Tail, true
	t.subjects[strings.ToUpper(d.Identity.Serial)] = true
	return fmt.Sprintf("%s, %s, serial %s", d.Tail, d.Identity.Model, d.Identity.Serial), nil
}

// pool adds a pool, under all its names, to a story.
func (t *teller) pool(p api.Pool) {
	t.pools[p.Id], t.names[p.Name] = true, true
	for _, name := range p.Also {
		t.names[name] = true
	}
}

func (s *Service) aboutPool(t *teller, name string) (title string, err error) {
	p, err := s.Views.Pool(name)
	if err != nil {
		return "", err
	}
	t.pool(p)
	for _, h := range p.Hosts {
		t.hosts[h] = true
	}
	return "the pool " + p.Name, s.takeDrives(t, api.ListDrivesParams{Pool: []string{p.Name}})
}

func (s *Service) aboutHost(t *teller, name string) (title string, err error) {
	var names []string
	for _, h := range s.Views.Hosts() {
		names = append(names, h.Name)
	}
	if !slices.Contains(names, name) {
		return "", problem.Missing("no-host", "host", name, names)
	}
	t.hosts[name] = true
	for _, p := range s.Views.AllPools() {
		if slices.Contains(p.Hosts, name) {
			t.pool(p)
		}
	}
	return "the host " + name, s.takeDrives(t, api.ListDrivesParams{Host: []string{name}})
}

// storyEvents are the observations and actions, and the times in which a host did not report.
func (s *Service) storyEvents(t *teller) error {
	silent := map[string]time.Time{}
	tokens, err := store.All[store.Token](s.Store, "name", "")
	if err != nil {
		return err
	}
	people := map[string]bool{}
	for _, x := range tokens {
		people[x.Name] = true
	}
	// A host may have stopped reporting before the beginning of the story, and this is noticed later than it began.
	subjects := make([]string, 0, len(t.subjects))
	for name := range t.subjects {
		subjects = append(subjects, name)
	}
	rows, err := store.All[store.Event](
		s.Store,
		"id",
		"subject in ? and kind not in ('swap', 'recovery', 'notice', 'light')",
		subjects,
	)
	if err != nil {
		return err
	}
	unknown := func(host string, from, until time.Time) {
		if until.After(t.from) && from.Before(t.to) {
			t.entries = append(t.entries, api.StoryEntry{At: from.UTC(), Until: until.UTC(), What: storyUnknown, Who: host,
				Says: fmt.Sprintf("nothing is known of %s: it did not report", host)})
		}
	}
	for _, e := range rows {
		if e.Kind == string(api.EventKindHost) {
			if _, since, ok := strings.Cut(e.Says, "has stopped reporting; what is known of it is of "); ok {
				if at, err := time.Parse(time.RFC3339, since); err == nil {
					silent[e.Subject] = at
				}
			} else if from, was := silent[e.Subject]; was && e.Says == e.Subject+" reports" {
				unknown(e.Subject, from, e.At)
				delete(silent, e.Subject)
			}
		}
		what, who := storyObserved, ""
		if first, _, ok := strings.Cut(e.Says, " "); ok && people[first] {
			what, who = storyDone, first
		}
		t.say(e.At, what, who, e.Says)
	}
	for host, from := range silent {
		unknown(host, from, t.to)
	}
	return nil
}

func (s *Service) storyFindings(t *teller) error {
	rows, err := store.All[store.FoundLog](s.Store, "id", "at >= ? and at < ?", t.from, t.to)
	if err != nil {
		return err
	}
	for _, row := range rows {
		tail, ours := t.drives[row.Drive]
		var f struct {
			Says string `json:"says"`
		}
		if ours && json.Unmarshal(row.Doc, &f) == nil {
			t.say(row.At, storyJudged, "", fmt.Sprintf("%s: %s %s: %s", tail, row.Rule, row.Turn, f.Says))
		}
	}
	return nil
}

func (s *Service) storyNotices(t *teller) error {
	rows, err := store.All[store.Notice](s.Store, "at", "")
	if err != nil {
		return err
	}
	ours := map[string]string{} // texts, by id
	for _, row := range rows {
		var n notice.Notice
		if json.Unmarshal(row.Doc, &n) != nil || !t.concerns(n) {
			continue
		}
		ours[n.ID] = n.Says
		t.say(n.Opened, storyTold, "", "a notice opened: "+n.Says)
		if a := n.Acknowledged; a != nil {
			t.say(a.At, storySeen, a.By, strings.TrimSuffix("saw the notice: "+n.Says+": "+a.Note, ": "))
		}
		if !n.Closed.IsZero() {
			t.say(n.Closed, storyTold, "", "the notice closed: "+n.Says)
		}
	}
	sent, err := store.All[store.Delivery](
		s.Store,
		"made",
		"made >= ? and made < ? and done = ?",
		t.from.UnixMilli(),
		t.to.UnixMilli(),
		true,
	)
	if err != nil {
		return err
	}
	for _, d := range sent {
		if says, is := ours[d.Notice]; is {
			how := "a message went out: "
			if d.Error != "" {
				how = "a message could not be delivered (" + d.Error + "): "
			}
			t.say(time.UnixMilli(d.Made), storyTold, d.Channel, how+says)
		}
	}
	return nil
}

func (t *teller) concerns(n notice.Notice) bool {
	return n.Host != "" && t.hosts[n.Host] && len(n.Drives) == 0 && n.Pool == "" || t.names[n.Pool] ||
		slices.ContainsFunc(n.Drives, func(key string) bool { _, is := t.drives[key]; return is })
}

func (s *Service) storyOrders(t *teller) error {
	rows, err := store.All[store.Order](s.Store, "id", "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		if !t.hosts[row.Host] {
			continue
		}
		var o orders.Order
		if json.Unmarshal(row.Doc, &o) != nil || o.At.Before(t.from) || !o.At.Before(t.to) {
			continue
		}
		about := t.pools[o.Pool] || t.names[o.Pool]
		for key := range t.drives {
			quoted := ledger.Document(strings.TrimPrefix(key, "wwn-"))
			about = about || bytes.Contains(row.Doc, quoted[1:len(quoted)-1])
		}
		if about {
			t.say(
				o.At,
				storyOrdered,
				cmp.Or(o.By, "the service"),
				strings.TrimSuffix(fmt.Sprintf("%s of %s: %s: %s", o.Kind, row.Host, o.State, o.Says), ": "),
			)
		}
	}
	return nil
}

func (s *Service) storySwaps(t *teller) error {
	for _, w := range s.Swaps.Swaps(false) {
		_, old := t.drives[w.Old.Key]
		_, in := t.drives[w.New.Key]
		if !t.names[w.Pool] && !old && !(in && w.New.Key != "") {
			continue
		}
		for _, l := range w.Log {
			what := storyDone
			if l.Who == "" || l.Who == "agent" || l.Who == "pool" {
				what = storyObserved
			}
			t.say(l.At, what, l.Who, fmt.Sprintf("swap of %s in %s: %s", w.Old.Tail, w.Pool, l.Says))
		}
	}
	return nil
}

func (s *Service) storyRecoveries(t *teller) error {
	if len(t.names) == 0 {
		return nil
	}
	all, err := s.Progress.Recoveries("", 0)
	if err != nil {
		return err
	}
	for _, r := range all {
		if !t.names[r.Pool] {
			continue
		}
		t.say(r.StartedAt, storyObserved, "", fmt.Sprintf("a %s of %s began", r.Kind, r.Pool))
		if !r.EndedAt.IsZero() {
			t.say(
				r.EndedAt,
				storyObserved,
				"",
				fmt.Sprintf("the %s of %s is %s; not repaired: %d", r.Kind, r.Pool, r.State, r.Unrepairable),
			)
		}
	}
	return nil
}

// storyPeople are the changes that people made by the API, from the audit.
func (s *Service) storyPeople(t *teller) error {
	rows, err := store.All[store.AuditEntry](s.Store, "number", "at >= ? and at < ?", t.from, t.to)
	if err != nil {
		return err
	}
	for _, e := range rows {
		about := false
		for _, part := range strings.FieldsFunc(e.Target, func(r rune) bool { return r == '/' || r == ' ' }) {
			_, drive := t.drives[part]
			about = about || drive || t.names[part] || t.hosts[part] || t.pools[part]
			for _, tail := range t.drives {
				about = about || part == tail
			}
		}
		if about {
			t.say(e.At, storyDone, e.Who, fmt.Sprintf("%s %s: %s", e.Action, e.Target, e.Result))
		}
	}
	return nil
}
