package notices

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/channel"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/words"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// deliver makes a delivery of a change for each channel that selects it, and for each that got the notice before:
// whoever got the bad news gets the better news and the end. It returns the channels that have got the notice by now.
func (s *State) deliver(b *store.Batch, c notice.Change, now time.Time) (told []string) {
	told = slices.Clone(c.Told)
	for _, o := range s.channels {
		knows := slices.Contains(c.Told, o.Name)
		if !o.hears(c, knows, now) {
			continue
		}
		if c.Turn == notice.Closed && s.unsent(o.Name, c.ID) {
			continue // its opening was not sent, so its closing is not sent
		}
		if !knows {
			told = append(told, o.Name)
		}
		m := channel.Message{
			ID:      ledger.NewID(),
			At:      now,
			Type:    "notice." + strings.ReplaceAll(string(c.Turn), " ", "-"),
			Subject: subject(c),
			Text:    s.text(c.Notice),
			Grave:   grave(c),
			Thread:  c.ID,
			First:   c.Turn == notice.Opened,
			About: map[string]string{
				"host":     c.Host,
				"pool":     c.Pool,
				"bay":      c.Bay,
				"drive":    strings.Join(c.Drives, ","),
				"severity": word(c.Notice),
				"turn":     string(c.Turn),
				"notice":   c.ID,
			},
		}
		next := now
		if urgent := c.Kind != notice.Filling &&
			pressing(c.Notice).Gravity() >= health.Replace.Gravity(); !urgent ||
			c.Turn == notice.Closed || c.Turn == notice.Better {
			if end := o.quietUntil(now); !end.IsZero() {
				next = end
			}
		}
		v := s.viewNotice(c.Notice, now)
		s.queue(b, o.Name, c.ID, m, v, next)
	}
	return told
}

// hears reports whether a channel gets a change; knows is true when it got the notice before.
func (c Outlet) hears(x notice.Change, knows bool, now time.Time) bool {
	wants := c.wants(x.Notice) || x.Kind == notice.Alarm // an alarm is sent to every channel
	switch x.Turn {
	case notice.Opened:
		return wants && !x.Quiet(now)
	case notice.Worse: // even if acknowledged or muted
		return wants || knows
	case notice.Better:
		return knows && !now.Before(x.Muted)
	}
	return knows || wants && !x.Quiet(now)
}

func (s *State) text(n notice.Notice) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s.\n\nTo do: %s\n\n", n.Says, n.Do)
	for _, l := range [][2]string{{"bay", n.Bay}, {"pool", n.Pool}, {"host", n.Host}, {"severity", word(n)},
		{"since", n.Opened.Format(time.RFC3339)}, {"notice", n.ID}} {
		if l[1] != "" {
			fmt.Fprintf(&b, "%-9s %s\n", l[0], l[1])
		}
	}
	for i, key := range n.Drives {
		if i == mostNamed {
			fmt.Fprintf(&b, "%-9s and %d more\n", "", len(n.Drives)-i)
			break
		}
		if d := s.fleet.Drives[key]; d != nil {
			fmt.Fprintf(&b, "%-9s serial %s, %s\n", "drive", d.Desc.Serial, d.Desc.Model)
		}
	}
	if s.own.base != "" {
		fmt.Fprintf(&b, "%-9s %s\n", "console", s.own.base+page(n))
	}
	return b.String()
}

// mostNamed is the greatest number of serials in a message.
const mostNamed = 6

// page is the console's page for a notice.
func page(n notice.Notice) string {
	switch {
	case len(n.Drives) == 1:
		return "/drives/" + url.PathEscape(n.Drives[0])
	case n.Pool != "":
		return "/pools/" + url.PathEscape(n.Pool)
	case n.Host != "":
		return "/bays/" + url.PathEscape(n.Host)
	}
	return "/notices"
}

// SetBase sets the address of the console for links in messages.
func (s *Service) SetBase(base string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.base = base
}

// pending are the waiting deliveries.
type pending struct {
	channel.Message
	Notice json.RawMessage `json:"notice"`
}

func (s *State) queue(b *store.Batch, name, about string, m channel.Message, data any, next time.Time) {
	d := &store.Delivery{
		ID:      m.ID,
		Channel: name,
		Notice:  about,
		Next:    next.UnixMilli(),
		Made:    m.At.UnixMilli(),
		Doc:     ledger.Document(pending{m, ledger.Document(data)}),
	}
	b.Add(d)
	s.deliveries = append(s.deliveries, d)
}

// unsent removes the waiting deliveries of a notice from a channel, and reports whether these were all of its
// deliveries.
func (s *State) unsent(name, about string) bool {
	some, tried := false, false
	for _, d := range s.deliveries {
		if d.Channel == name && d.Notice == about {
			some = true
			tried = tried || d.Tries > 0
		}
	}
	if !some || tried {
		return false
	}
	if _, err := store.Remove[store.Delivery](
		s.Store,
		"channel = ? and notice = ? and done = ?",
		name,
		about,
		false,
	); err != nil {
		return false
	}
	s.deliveries = slices.DeleteFunc(
		s.deliveries,
		func(d *store.Delivery) bool { return d.Channel == name && d.Notice == about },
	)
	return true
}

func (s *State) LoadDeliveries() error {
	rows, err := store.All[store.Delivery](s.Store, "made, id", "done = ?", false)
	if err != nil {
		return err
	}
	s.deliveries = nil
	for i := range rows {
		s.deliveries = append(s.deliveries, &rows[i])
	}
	return nil
}

// The greatest time before a delivery is tried again, and the time after which it is given up.
const (
	firstRetry = 30 * time.Second
	mostRetry  = time.Hour
	giveUp     = 3 * 24 * time.Hour
)

// Deliver sends what is due, once; a confirmed delivery is recorded before the next one is sent through the same
// channel. Channels are independent: one that is still sending is skipped, and the others send in parallel. It is
// called repeatedly, also while an earlier call still sends.
func (s *Service) Deliver(ctx context.Context) error {
	var all sync.WaitGroup
	var mu sync.Mutex
	var failed []error
	for _, name := range s.begin() {
		all.Go(func() {
			defer s.end(name)
			if err := s.deliverOn(ctx, name); err != nil {
				mu.Lock()
				defer mu.Unlock()
				failed = append(failed, err)
			}
		})
	}
	all.Wait()
	return errors.Join(failed...)
}

// begin gives the idle channels with due deliveries, and marks them as sending.
func (s *Service) begin() (names []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now().UnixMilli()
	for _, d := range s.deliveries {
		if d.Next <= now && !s.sending[d.Channel] {
			if s.sending == nil {
				s.sending = map[string]bool{}
			}
			s.sending[d.Channel] = true
			names = append(names, d.Channel)
		}
	}
	return names
}

func (s *Service) end(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.sending, name)
}

// deliverOn sends the due deliveries of one channel.
func (s *Service) deliverOn(ctx context.Context, name string) error {
	for ctx.Err() == nil {
		s.mu.Lock()
		now := s.Clock.Now()
		var d *store.Delivery
		for _, x := range s.deliveries {
			if x.Channel == name && x.Next <= now.UnixMilli() && (d == nil || x.Next < d.Next) {
				d = x
			}
		}
		if d == nil {
			s.mu.Unlock()
			return nil
		}
		i := slices.IndexFunc(s.channels, func(o Outlet) bool { return o.Name == d.Channel })
		var c Outlet
		if i >= 0 {
			c = s.channels[i]
		}
		sender := s.sender
		s.mu.Unlock()
		err := error(nil)
		if i >= 0 {
			var p pending
			if err = json.Unmarshal(d.Doc, &p); err == nil {
				p.Data = p.Notice
				err = sender.Send(ctx, c.Config, p.Message)
			}
		}
		if ctx.Err() != nil {
			return nil // stopped in the middle: it is tried again
		}
		if err := s.delivered(d, err, now); err != nil {
			return err
		}
	}
	return nil
}

// left is a delivery's document with only the receivers that have not accepted it yet.
func left(doc []byte, failed error) []byte {
	var some *channel.Partly
	var p pending
	if !errors.As(failed, &some) || json.Unmarshal(doc, &p) != nil {
		return doc
	}
	p.To = some.Left
	return ledger.Document(p)
}

func (s *Service) delivered(d *store.Delivery, failed error, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	next := *d
	next.Tries++
	next.Doc = left(d.Doc, failed)
	b := &store.Batch{Observed: true}
	switch {
	case failed == nil:
		next.Done, next.Error = true, ""
	case now.Sub(time.UnixMilli(d.Made)) > giveUp:
		next.Done, next.Error = true, failed.Error()
		s.AddEvent(
			b,
			api.EventKindNotice,
			d.Notice,
			fmt.Sprintf(
				"the channel %s could not be reached for three days; a message was given up: %s",
				d.Channel,
				failed,
			),
		)
	default:
		wait := min(firstRetry<<min(d.Tries, 10), mostRetry)
		next.Error, next.Next = failed.Error(), now.Add(wait).UnixMilli()
		s.Log.Warn("a channel does not accept messages", "channel", d.Channel, "tries", next.Tries, "error", failed)
	}
	b.Put(&next)
	if err := s.Commit(b); err != nil {
		return err
	}
	// Memory may have been reloaded meanwhile; the delivery is found by its id.
	s.deliveries = slices.DeleteFunc(s.deliveries, func(x *store.Delivery) bool { return x.ID == d.ID })
	if !next.Done {
		s.deliveries = append(s.deliveries, &next)
	}
	return nil
}

// digest makes the daily messages that are due.
func (s *State) digest(b *store.Batch, now time.Time) {
	for i := range s.channels {
		o := &s.channels[i]
		if o.Digest == "" {
			continue
		}
		due := on(now.In(o.zone()), o.Digest)
		if now.Before(due) || !o.Digested.Before(due) {
			continue
		}
		first := o.Digested.IsZero()
		o.Digested = now
		b.Put(&store.Channel{Name: o.Name, Doc: ledger.Document(o)})
		if first {
			continue // a channel that was added today begins tomorrow
		}
		open := slices.Clone(s.Open)
		open = slices.DeleteFunc(open, func(n notice.Notice) bool { return !o.wants(n) })
		notice.Rank(open, now)
		m := channel.Message{ID: ledger.NewID(), At: now, Type: "digest", Grave: 5, Subject: "No open notices"}
		if len(open) > 0 {
			m.Subject = fmt.Sprintf("%s, the gravest: %s", words.Count(len(open), "open notice"), open[0].Says)
		}
		var text strings.Builder
		views := []api.Notice{}
		for _, n := range open {
			seen := ""
			if n.Acknowledged != nil {
				seen = ", seen by " + n.Acknowledged.By
			}
			fmt.Fprintf(&text, "[%s] %s: %s%s\n    %s\n", word(n), cmp.Or(n.Bay, n.Pool, n.Host), n.Says, seen, n.Do)
			views = append(views, s.viewNotice(n, now))
		}
		m.Text = cmp.Or(text.String(), fmt.Sprintf("No notice is open that this channel is told of (%s and graver%s). "+
			"What that is worth is in "+
			"the round: lantern round\n", o.Least, o.narrowed()))
		s.queue(b, o.Name, "digest", m, map[string]any{"notices": views}, now)
	}
}

// narrowed describes the part of the fleet that a channel gets.
func (c *Outlet) narrowed() string {
	if len(c.Kinds)+len(c.Pools)+len(c.Hosts) == 0 {
		return ""
	}
	return ", of " + strings.Join(slices.Concat(c.Kinds, c.Pools, c.Hosts), ", ")
}
