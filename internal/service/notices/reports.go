package notices

import (
	"fmt"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/channel"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// reportHour is when reports on a period are sent, by the clock of the channel's zone.
const reportHour = 7

// DueReport is a report that a channel must get now: about the last whole week or month.
type DueReport struct {
	Channel  string
	From, To time.Time
	Pool     string // for a channel of a single pool
}

// period is the last whole week (from Monday) or month before a moment, and the time at which its report is due.
func period(each string, now time.Time) (from, to, due time.Time) {
	y, m, d := now.Date()
	switch each {
	case "week":
		to = time.Date(y, m, d-(int(now.Weekday())+6)%7, 0, 0, 0, 0, now.Location())
		from = to.AddDate(0, 0, -7)
	default:
		to = time.Date(y, m, 1, 0, 0, 0, 0, now.Location())
		from = to.AddDate(0, -1, 0)
	}
	return from, to, time.Date(to.Year(), to.Month(), to.Day(), reportHour, 0, 0, 0, now.Location())
}

// DueReports are the reports to be sent now. A new channel begins with the present period.
func (s *Service) DueReports() (out []DueReport, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &store.Batch{}
	for i := range s.channels {
		o := &s.channels[i]
		if o.Report == "" {
			continue
		}
		now := s.Clock.Now().In(o.zone())
		from, to, due := period(o.Report, now)
		switch {
		case now.Before(due) || !o.Reported.Before(due):
		case o.Reported.IsZero():
			o.Reported = now
			b.Put(&store.Channel{Name: o.Name, Doc: ledger.Document(o)})
		default:
			r := DueReport{Channel: o.Name, From: from, To: to}
			if len(o.Pools) == 1 {
				r.Pool = o.Pools[0]
			}
			out = append(out, r)
		}
	}
	if len(b.Records()) == 0 {
		return out, nil
	}
	return out, s.Commit(b)
}

// SendReport queues a report for a channel, and records that. page is the report as HTML, for e-mail.
func (s *Service) SendReport(r DueReport, report api.PeriodReport, page string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.channels {
		o := &s.channels[i]
		if o.Name != r.Channel {
			continue
		}
		now := s.Clock.Now()
		o.Reported = now
		b := &store.Batch{}
		b.Put(&store.Channel{Name: o.Name, Doc: ledger.Document(o)})
		last := r.To.Add(-time.Second)
		about := fmt.Sprintf("%s to %s", r.From.Format(time.DateOnly), last.Format(time.DateOnly))
		m := channel.Message{ID: ledger.NewID(), At: now, Type: "report", Grave: 5, Subject: "Drives and pools, " + about,
			Text: strings.Join(report.First, "\n") + "\n", HTML: page}
		if s.own.base != "" {
			m.Text += "\nThe whole: " + s.own.base + "/reports\n"
		}
		s.queue(b, o.Name, "report", m, map[string]any{"report": report}, now)
		return s.Commit(b)
	}
	return nil // it was removed meanwhile
}
