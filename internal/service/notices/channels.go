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

// Outlet is a channel, with the selection of notices that it sends.
type Outlet struct {
	Name string `json:"name"`
	channel.Config
	Least  health.Verdict `json:"least"` // least severity that is sent
	Kinds  []string       `json:"kinds"` // empty: all
	Pools  []string       `json:"pools"`
	Hosts  []string       `json:"hosts"`
	Quiet  string         `json:"quiet"`            // quiet hours, such as 22:00-07:00: only urgent notices are sent
	Zone   string         `json:"zone"`             // of these times
	Digest string         `json:"digest"`           // such as 08:00: what is open, once a day
	Report string         `json:"report,omitempty"` // week or month: a report on each
	// Reported is when the newest was made.
	Reported time.Time `json:"reported,omitzero"`
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

// SetSelf sets the address of the service, so that no channel can point back to it.
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

// on gives the time of day, such as 07:00, on the day of a moment.
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

// wants reports whether a channel sends a notice.
func (c Outlet) wants(n notice.Notice) bool {
	has := func(list []string, x string) bool { return len(list) == 0 || slices.Contains(list, x) }
	severity := pressing(n)
	if !n.Open() && n.Kind != notice.Host {
		severity = n.Worst // whoever got its opening gets its closing too
	}
	return severity.Gravity() >= c.Least.Gravity() && has(c.Kinds, string(n.Kind)) && has(c.Pools, n.Pool) &&
		has(c.Hosts, n.Host)
}

// pressing is the severity of a notice for sending. Nothing is known of the drives of a host that is not reporting:
// that is as urgent as a drive to be replaced.
func pressing(n notice.Notice) health.Verdict {
	if n.Kind == notice.Host {
		return health.Replace
	}
	return n.Severity
}

func subject(c notice.Change) string {
	where := cmp.Or(c.Bay, c.Pool, c.Host)
	return strings.TrimSpace(
		fmt.Sprintf("[%s] %s: %s", word(c.Notice), where, c.Says),
	) + map[notice.Turn]string{notice.Closed: " (over)", notice.Better: " (better than before)"}[c.Turn]
}

// word is the severity of a notice in one word, which never confuses filling with failing.
func word(n notice.Notice) string {
	switch n.Kind {
	case notice.Filling:
		return "filling up"
	case notice.Alarm:
		return "STOP"
	case notice.Service:
		return "service"
	}
	return string(n.Severity)
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

// Channels lists channels, without their secrets.
func (s *Service) Channels() []api.Channel {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := []api.Channel{}
	for _, o := range s.channels {
		out = append(out, s.viewChannel(o))
	}
	return out
}

func (s *State) viewChannel(o Outlet) api.Channel {
	v := api.Channel{
		Name:      o.Name,
		Kind:      api.ChannelKind(o.Kind),
		Url:       o.URL,
		Server:    o.Server,
		From:      o.From,
		To:        o.To,
		User:      o.User,
		SecretSet: o.Secret != "",
		Least:     api.Verdict(o.Least),
		Kinds:     o.Kinds,
		Pools:     o.Pools,
		Hosts:     o.Hosts,
		Quiet:     o.Quiet,
		Zone:      o.Zone,
		Digest:    o.Digest,
		Report:    api.ChannelReport(o.Report),
	}
	for _, d := range s.deliveries {
		if d.Channel == o.Name {
			v.Waiting++
			v.Error = cmp.Or(v.Error, d.Error)
		}
	}
	return v
}

// check refuses invalid settings.
func (c *Outlet) check() error {
	bad := func(do, title string, args ...any) error { return problem.New(422, "bad-channel", do, title, args...) }
	switch {
	case !judging.RuleID.MatchString(c.Name):
		return bad(
			"Such as night-shift.",
			"The name of a channel has 2 to 40 lower-case letters, digits and hyphens; %q does not.",
			c.Name,
		)
	case c.Least != health.Watch && c.Least != health.Replace && c.Least != health.Dead:
		return bad("Say watch, replace or dead.", "The least severity is not %q.", c.Least)
	case c.Quiet != "" && !quietTime.MatchString(c.Quiet):
		return bad("Such as 22:00-07:00.", "%q are not quiet hours.", c.Quiet)
	case c.Digest != "" && !clockTime.MatchString(c.Digest):
		return bad("Such as 08:00.", "%q is not a time of day.", c.Digest)
	case c.Report != "" && !api.ChannelPutReport(c.Report).Valid():
		return bad("Say week or month.", "A report is not sent each %q.", c.Report)
	}
	if _, err := time.LoadLocation(c.Zone); err != nil {
		return bad("Such as Europe/Oslo.", "No time zone %q.", c.Zone)
	}
	for _, k := range c.Kinds {
		if !api.NoticeKind(k).Valid() {
			return bad("There are drive, section, host, filling and recovery.", "No kind of notice %q.", k)
		}
	}
	return nil
}

// PutChannel stores a channel. A secret that is not given is unchanged.
func (s *Service) PutChannel(ctx context.Context, by, name string, req api.ChannelPut) (api.Channel, error) {
	bad := func(do, title string, args ...any) (api.Channel, error) {
		return api.Channel{}, problem.New(422, "bad-channel", do, title, args...)
	}
	o := Outlet{
		Name: name,
		Config: channel.Config{
			Kind:   channel.Kind(req.Kind),
			URL:    req.Url,
			Server: req.Server,
			From:   req.From,
			To:     req.To,
			User:   req.User,
			Secret: req.Secret,
			CA:     req.Ca,
		},
		Least: health.Verdict(
			cmp.Or(req.Least, api.Replace),
		),
		Kinds:  req.Kinds,
		Pools:  req.Pools,
		Hosts:  req.Hosts,
		Quiet:  req.Quiet,
		Zone:   cmp.Or(req.Zone, "UTC"),
		Digest: req.Digest,
		Report: string(req.Report),
	}
	s.mu.Lock()
	sender := s.sender
	for _, was := range s.channels {
		if was.Name == name {
			o.Secret, o.Digested, o.Reported = cmp.Or(o.Secret, was.Secret), was.Digested, was.Reported
			if was.URL != o.URL || was.Server != o.Server || was.Kind != o.Kind {
				o.Secret = req.Secret // a secret is never sent to another address
			}
		}
	}
	s.mu.Unlock()
	if err := o.check(); err != nil {
		return api.Channel{}, err
	}
	if err := sender.Check(ctx, o.Config); err != nil {
		return bad("Nothing was kept.", "The channel cannot work: %s.", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &store.Batch{}
	b.Put(&store.Channel{Name: name, Doc: ledger.Document(o)})
	s.AddEvent(b, api.EventKindNotice, name, by+" set the channel "+name)
	if err := s.Commit(b); err != nil {
		return api.Channel{}, err
	}
	return s.viewChannel(o), s.LoadChannels()
}

// RemoveChannel removes a channel, with its waiting deliveries.
func (s *Service) RemoveChannel(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	n, err := store.Remove[store.Channel](s.Store, "name = ?", name)
	if err != nil {
		return err
	}
	if n == 0 {
		return problem.New(404, "no-channel", "List them with: lantern channel list", "No channel %q.", name)
	}
	if _, err := store.Remove[store.Delivery](s.Store, "channel = ? and done = ?", name, false); err != nil {
		return err
	}
	s.deliveries = slices.DeleteFunc(s.deliveries, func(d *store.Delivery) bool { return d.Channel == name })
	b := &store.Batch{}
	s.AddEvent(b, api.EventKindNotice, name, by+" removed the channel "+name)
	if err := s.Commit(b); err != nil {
		return err
	}
	return s.LoadChannels()
}

// TestChannel sends a message through a channel now, and gives the result.
func (s *Service) TestChannel(ctx context.Context, by, name string) error {
	s.mu.Lock()
	i := slices.IndexFunc(s.channels, func(o Outlet) bool { return o.Name == name })
	if i < 0 {
		s.mu.Unlock()
		return problem.New(404, "no-channel", "List them with: lantern channel list", "No channel %q.", name)
	}
	o, sender, now := s.channels[i], s.sender, s.Clock.Now()
	s.mu.Unlock()
	m := channel.Message{
		ID:      ledger.NewID(),
		At:      now,
		Type:    "test",
		Grave:   5,
		Subject: "A test of the channel " + name + ", sent by " + by,
		Text:    "If you read this, the channel works. Nothing is wrong.\n",
		Data:    map[string]string{"channel": name, "by": by},
	}
	if err := sender.Send(ctx, o.Config, m); err != nil {
		return problem.New(
			502,
			"channel-failed",
			"Look at its address, its secret and its certificate.",
			"The message was not accepted: %s.",
			err,
		)
	}
	return nil
}
