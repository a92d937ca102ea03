package httpd

import (
	"fmt"
	"net/http"
	"strings"

	"lantern/internal/harmless"
	"lantern/internal/service/problem"

	ics "github.com/arran4/golang-ical"
	"github.com/labstack/echo/v5"
)

// feed gives the calendar of tests as iCalendar (RFC 5545) to anybody who knows its address. Tests of one kind in one
// pool on one day are one event, so that a large fleet stays readable.
func (s *Server) feed(c *echo.Context) error {
	token, ok := strings.CutSuffix(c.Param("file"), ".ics")
	known, err := s.Service.Selftests.FeedKnown(token)
	if err != nil {
		return err
	}
	if !ok || !known {
		return &problem.Problem{
			Status: http.StatusNotFound,
			Type:   "no-calendar",
			Title:  "No calendar is at this address.",
			Do:     "Make a new address with: lantern plan feed",
		}
	}
	cal := ics.NewCalendar()
	cal.SetMethod(ics.MethodPublish)
	cal.SetProductId("-//Brave Lantern//self-tests//EN")
	cal.SetName("Drive self-tests")
	now := s.Now()
	for _, day := range s.Service.Selftests.FeedDays() {
		e := cal.AddEvent(day.ID + "@lantern")
		e.SetDtStampTime(now)
		e.SetStartAt(day.From)
		e.SetEndAt(day.To)
		drives := fmt.Sprintf("%d drives", len(day.Tests))
		if len(day.Tests) == 1 {
			drives = "1 drive"
		}
		e.SetSummary(harmless.Line(fmt.Sprintf("%s self-tests, %s: %s", day.Kind, day.Place, drives)))
		e.SetLocation(harmless.Line(day.Place))
		e.SetTimeTransparency(ics.TransparencyTransparent) // it makes nobody busy in the calendar
		var lines []string
		for _, t := range day.Tests {
			line := fmt.Sprintf("%s %s %s", t.At.UTC().Format("15:04Z"), t.Tail, t.Bay)
			if t.State != "planned" {
				line += ", " + string(t.State)
			}
			if t.Result != "" {
				line += ": " + t.Result
			}
			if t.Why != "" {
				line += " (" + t.Why + ")"
			}
			lines = append(lines, harmless.Line(line))
		}
		e.SetDescription(strings.Join(lines, "\n"))
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=300")
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", []byte(cal.Serialize(ics.WithNewLineWindows)))
}
