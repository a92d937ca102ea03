package notices

import (
	"context"
	"time"

	"lantern/internal/channel"
	"lantern/internal/service/ledger"
)

// cryEach is how often people are notified again that nothing can be recorded.
const cryEach = time.Hour

// Emergency notifies every channel at once, without a record, that nothing can be recorded, and later that recording
// works again: notices are records themselves. It is called with the lock held and does not wait for the channels.
func (s *State) Emergency(now time.Time) {
	says, do, _ := s.Trouble()
	m := channel.Message{ID: ledger.NewID(), At: now, Type: "service.unwritable", Grave: 2, Subject: "[service] " + says,
		Text: says + ".\n\nTo do: " + do + "\n"}
	switch failing := s.Disk.Failed != ""; {
	case failing && (s.own.cried.IsZero() || now.Sub(s.own.cried) >= cryEach || now.Before(s.own.cried)):
		s.own.cried = now
	case !failing && !s.own.cried.IsZero():
		s.own.cried = time.Time{}
		m.Type, m.Grave, m.Subject = "service.writable", 5, "[service] the service records again"
		m.Text = "The service can record again. Agents deliver what they kept.\n"
	default:
		return
	}
	m.Data = map[string]string{"says": m.Subject}
	s.Log.Error("the state of the service's records", "says", m.Subject)
	sender, log := s.sender, s.Log
	for _, o := range s.channels {
		go func() {
			if err := sender.Send(context.Background(), o.Config, m); err != nil {
				log.Error("a channel could not be told of trouble with the records", "channel", o.Name, "error", err)
			}
		}()
	}
}
