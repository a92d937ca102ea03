package notices

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/channel"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Outlet is a channel, and what goes through it.
type Outlet struct {
	Name string `json:"name"`
	channel.Config
	Least  health.Verdict `json:"least"` // severity under which nothing is sent
	Kinds  []string       `json:"kinds"` // empty: all
	Pools  []string       `json:"pools"`
	Hosts  []string       `json:"hosts"`
	Quiet  string         `json:"quiet"`  // quiet hours, such as 22:00-07:00: only urgent notices are sent
	Zone   string         `json:"zone"`   // of these times
	Digest string         `json:"digest"` // such as 08:00: what is open, once a day
	// Digested is when the newest digest was made.
	Digested time.Time `json:"digested"`
}

func (s *State) LoadChannels() error {
	rows, err := store.All[store.Channel](s.Store, "name", "")
	if err != nil {
		return err
	}
	s.channels = nil
	for _, row := range rows {
		var c Outlet
		if err := json.Unmarshal(row.Doc, &c); err != nil {
			return fmt.Errorf("channel %s: %w", row.Name, err)
		}
		s.channels = append(s.channels, c)
	}
	return nil
}

// SetSelf tells where the service listens, so that no channel points back into it.
func (s *Service) SetSelf(addresses ...netip.AddrPort) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sender.Self = addresses
}

func (c Outlet) zone() *time.Location {
	if z, err := time.LoadLocation(c.Zone); err == nil {
		return z
	}
	return time.UTC
}

var (
	clockTime = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)
	quietTime = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]-([01][0-9]|2[0-3]):[0-5][0-9]$`)
)

// on gives a moment's day at a time of day such as 07:00.
func on(day time.Time, hhmm string) time.Time {
	t, _ := time.Parse("15:04", hhmm)
	return time.Date(day.Year(), day.Month(), day.Day(), t.Hour(), t.Minute(), 0, 0, day.Location())
}

// quietUntil is the end of the quiet hours for a notice that is not urgent; the zero time outside of them.
func (c Outlet) quietUntil(now time.Time) time.Time {
	from, to, ok := strings.Cut(c.Quiet, "-")
	if !ok || from == to {
		return time.Time{}
	}
	local := now.In(c.zone())
	for _, back := range []int{-1, 0} {
		begin := on(local.AddDate(0, 0, back), from)
		end := on(begin, to)
		if !end.After(begin) {
			end = on(begin.AddDate(0, 0, 1), to)
		}
		if !local.Before(begin) && local.Before(end) {
			return end
		}
	}
	return time.Time{}
}

// wants says whether a notice goes through the channel.
func (c Outlet) wants(n notice.Notice) bool {
	has := func(list []string, x string) bool { return len(list) == 0 || slices.Contains(list, x) }
	severity := pressing(n)
	if !n.Open() && n.Kind != notice.Host {
		severity = n.Worst // who was told that it opened is told that it closed
	}
	return severity.Gravity() >= c.Least.Gravity() && has(c.Kinds, string(n.Kind)) && has(c.Pools, n.Pool) && has(c.Hosts, n.Host)
}

// pressing is how grave a notice is for those who are to be told. Of a host that is silent nothing is known, of any of its
// drives: that is as urgent as one that is to be replaced.
func pressing(n notice.Notice) health.Verdict {
	if n.Kind == notice.Host {
		return health.Replace
	}
	return n.Severity
}

// deliver makes a delivery for each channel that wants to know of a change.
func (s *State) deliver(b *store.Batch, c notice.Change, now time.Time) {
	if c.Turn == notice.Better || c.Turn != notice.Worse && c.Quiet(now) {
		return
	}
	for _, o := range s.channels {
		if !o.wants(c.Notice) && c.Kind != notice.Alarm { // an alarm goes everywhere
			continue
		}
		if c.Turn == notice.Closed && s.unsent(o.Name, c.ID) {
			continue // nobody was told that it opened, so nobody is told that it closed
		}
		m := channel.Message{ID: ledger.NewID(), At: now, Type: "notice." + strings.ReplaceAll(string(c.Turn), " ", "-"), Subject: subject(c), Text: s.text(c.Notice), Grave: grave(c)}
		next := now
		if urgent := c.Kind != notice.Filling && pressing(c.Notice).Gravity() >= health.Replace.Gravity(); !urgent || c.Turn == notice.Closed {
			if end := o.quietUntil(now); !end.IsZero() {
				next = end
			}
		}
		v := s.viewNotice(c.Notice, now)
		s.queue(b, o.Name, c.ID, m, v, next)
	}
}

func subject(c notice.Change) string {
	where := cmp.Or(c.Bay, c.Pool, c.Host)
	return strings.TrimSpace(fmt.Sprintf("[%s] %s: %s", word(c.Notice), where, c.Says)) + map[bool]string{true: " (over)"}[c.Turn == notice.Closed]
}

// word is how grave a notice is, in a word that never confuses filling with failing.
func word(n notice.Notice) string {
	switch n.Kind {
	case notice.Filling:
		return "filling up"
	case notice.Alarm:
		return "STOP"
	}
	return string(n.Severity)
}

func (s *State) text(n notice.Notice) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s.\n\nTo do: %s\n\n", n.Says, n.Do)
	for _, l := range [][2]string{{"bay", n.Bay}, {"pool", n.Pool}, {"host", n.Host}, {"severity", word(n)}, {"since", n.Opened.Format(time.RFC3339)}, {"notice", n.ID}} {
		if l[1] != "" {
			fmt.Fprintf(&b, "%-9s %s\n", l[0], l[1])
		}
	}
	return b.String()
}

// grave is a syslog severity (RFC 5424 table 2).
func grave(c notice.Change) int {
	switch {
	case c.Turn == notice.Closed:
		return 6
	case c.Kind == notice.Filling:
		return 4
	case c.Severity == health.Dead:
		return 2
	case c.Severity == health.Replace:
		return 3
	}
	return 4
}

// pending is what is still to be sent.
type pending struct {
	channel.Message
	Notice json.RawMessage `json:"notice"`
}

func (s *State) queue(b *store.Batch, name, about string, m channel.Message, data any, next time.Time) {
	d := &store.Delivery{ID: m.ID, Channel: name, Notice: about, Next: next.UnixMilli(), Made: m.At.UnixMilli(), Doc: ledger.Document(pending{m, ledger.Document(data)})}
	b.Add(d)
	s.deliveries = append(s.deliveries, d)
}

// unsent takes what was not sent yet of a notice off a channel, and says whether that was all that there was.
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
	if _, err := store.Remove[store.Delivery](s.Store, "channel = ? and notice = ? and done = ?", name, about, false); err != nil {
		return false
	}
	s.deliveries = slices.DeleteFunc(s.deliveries, func(d *store.Delivery) bool { return d.Channel == name && d.Notice == about })
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

// How long is waited before a delivery is tried again, at most, and when it is given up.
const (
	firstRetry = 30 * time.Second
	mostRetry  = time.Hour
	giveUp     = 3 * 24 * time.Hour
)

// Deliver sends what is due, once; what was confirmed is written down before the next is sent. It is called again and again.
func (s *Service) Deliver(ctx context.Context) error {
	for ctx.Err() == nil {
		s.mu.Lock()
		now := s.Clock.Now()
		var d *store.Delivery
		for _, x := range s.deliveries {
			if x.Next <= now.UnixMilli() && (d == nil || x.Next < d.Next) {
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

func (s *Service) delivered(d *store.Delivery, failed error, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	next := *d
	next.Tries++
	b := &store.Batch{}
	switch {
	case failed == nil:
		next.Done, next.Error = true, ""
	case now.Sub(time.UnixMilli(d.Made)) > giveUp:
		next.Done, next.Error = true, failed.Error()
		s.Happened(b, api.EventKindNotice, d.Notice, fmt.Sprintf("the channel %s could not be reached for three days; a message was given up: %s", d.Channel, failed))
	default:
		wait := min(firstRetry<<min(d.Tries, 10), mostRetry)
		next.Error, next.Next = failed.Error(), now.Add(wait).UnixMilli()
		s.Log.Warn("a channel does not take a message", "channel", d.Channel, "tries", next.Tries, "error", failed)
	}
	b.Put(&next)
	if err := s.Commit(b); err != nil {
		return err
	}
	// Memory may have been made anew meanwhile; the delivery is found by its id.
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
			continue // a channel that is new today begins tomorrow
		}
		open := slices.Clone(s.Open)
		open = slices.DeleteFunc(open, func(n notice.Notice) bool { return !o.wants(n) })
		notice.Rank(open, now)
		m := channel.Message{ID: ledger.NewID(), At: now, Type: "digest", Grave: 5, Subject: "Nothing needs a hand"}
		if len(open) > 0 {
			m.Subject = fmt.Sprintf("%d open notices, the gravest: %s", len(open), open[0].Says)
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
		m.Text = cmp.Or(text.String(), "All drives that can tell say that they are well.\n")
		s.queue(b, o.Name, "digest", m, map[string]any{"notices": views}, now)
	}
}

// Channels lists channels, without their secrets.
func (s *Service) Channels() []api.Channel {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Channel{}
	for _, o := range s.channels {
		out = append(out, s.viewChannel(o))
	}
	return out
}

func (s *State) viewChannel(o Outlet) api.Channel {
	v := api.Channel{Name: o.Name, Kind: api.ChannelKind(o.Kind), Url: o.URL, Server: o.Server, From: o.From, To: o.To, User: o.User, SecretSet: o.Secret != "", Least: api.Verdict(o.Least),
		Kinds: o.Kinds, Pools: o.Pools, Hosts: o.Hosts, Quiet: o.Quiet, Zone: o.Zone, Digest: o.Digest}
	for _, d := range s.deliveries {
		if d.Channel == o.Name {
			v.Waiting++
			v.Error = cmp.Or(v.Error, d.Error)
		}
	}
	return v
}

// PutChannel keeps a channel. A secret that is left out stays what it was.
func (s *Service) PutChannel(ctx context.Context, by, name string, req api.ChannelPut) (api.Channel, error) {
	bad := func(do, title string, args ...any) (api.Channel, error) {
		return api.Channel{}, problem.New(422, "bad-channel", do, title, args...)
	}
	o := Outlet{Name: name, Config: channel.Config{Kind: channel.Kind(req.Kind), URL: req.Url, Server: req.Server, From: req.From, To: req.To, User: req.User, Secret: req.Secret, CA: req.Ca},
		Least: health.Verdict(cmp.Or(req.Least, api.Replace)), Kinds: req.Kinds, Pools: req.Pools, Hosts: req.Hosts, Quiet: req.Quiet, Zone: cmp.Or(req.Zone, "UTC"), Digest: req.Digest}
	s.mu.Lock()
	sender := s.sender
	for _, was := range s.channels {
		if was.Name == name {
			o.Secret, o.Digested = cmp.Or(o.Secret, was.Secret), was.Digested
			if was.URL != o.URL || was.Server != o.Server || was.Kind != o.Kind {
				o.Secret = req.Secret // a secret never follows to another address
			}
		}
	}
	s.mu.Unlock()
	switch {
	case !judging.RuleID.MatchString(name):
		return bad("Such as night-shift.", "A channel is named by 2 to 40 small letters, digits and dashes, not %q.", name)
	case o.Least != health.Watch && o.Least != health.Replace && o.Least != health.Dead:
		return bad("Say watch, replace or dead.", "The least severity is not %q.", o.Least)
	case o.Quiet != "" && !quietTime.MatchString(o.Quiet):
		return bad("Such as 22:00-07:00.", "%q are no quiet hours.", o.Quiet)
	case o.Digest != "" && !clockTime.MatchString(o.Digest):
		return bad("Such as 08:00.", "%q is no time of day.", o.Digest)
	}
	if _, err := time.LoadLocation(o.Zone); err != nil {
		return bad("Such as Europe/Oslo.", "There is no time zone %q.", o.Zone)
	}
	for _, k := range o.Kinds {
		if !api.NoticeKind(k).Valid() {
			return bad("There are drive, section, host, filling and recovery.", "There is no kind of notice %q.", k)
		}
	}
	if err := sender.Check(ctx, o.Config); err != nil {
		return bad("Nothing was kept.", "The channel cannot work: %s.", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &store.Batch{}
	b.Put(&store.Channel{Name: name, Doc: ledger.Document(o)})
	s.Happened(b, api.EventKindNotice, name, by+" set the channel "+name)
	if err := s.Commit(b); err != nil {
		return api.Channel{}, err
	}
	return s.viewChannel(o), s.LoadChannels()
}

// RemoveChannel takes a channel away, with what still waits for it.
func (s *Service) RemoveChannel(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	n, err := store.Remove[store.Channel](s.Store, "name = ?", name)
	if err != nil {
		return err
	}
	if n == 0 {
		return problem.New(404, "no-channel", "List them with: lantern channel list", "There is no channel %q.", name)
	}
	if _, err := store.Remove[store.Delivery](s.Store, "channel = ? and done = ?", name, false); err != nil {
		return err
	}
	s.deliveries = slices.DeleteFunc(s.deliveries, func(d *store.Delivery) bool { return d.Channel == name })
	b := &store.Batch{}
	s.Happened(b, api.EventKindNotice, name, by+" removed the channel "+name)
	if err := s.Commit(b); err != nil {
		return err
	}
	return s.LoadChannels()
}

// TestChannel sends a message through a channel now, and says what became of it.
func (s *Service) TestChannel(ctx context.Context, by, name string) error {
	s.mu.Lock()
	i := slices.IndexFunc(s.channels, func(o Outlet) bool { return o.Name == name })
	if i < 0 {
		s.mu.Unlock()
		return problem.New(404, "no-channel", "List them with: lantern channel list", "There is no channel %q.", name)
	}
	o, sender, now := s.channels[i], s.sender, s.Clock.Now()
	s.mu.Unlock()
	m := channel.Message{ID: ledger.NewID(), At: now, Type: "test", Grave: 5, Subject: "A test of the channel " + name + ", sent by " + by, Text: "If you read this, the channel works. Nothing is wrong.\n", Data: map[string]string{"channel": name, "by": by}}
	if err := sender.Send(ctx, o.Config, m); err != nil {
		return problem.New(502, "channel-failed", "Look at its address, its secret and its certificate.", "The message was not taken: %s.", err)
	}
	return nil
}
