package recurrence

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/selftest"
)

var since = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestWordsBothWays(t *testing.T) {
	for text, want := range map[string]string{
		"every day 02:00":                         "FREQ=DAILY;INTERVAL=1;BYHOUR=2;BYMINUTE=0",
		"daily at 2:30":                           "every day 02:30",
		"every 3 days 23:15":                      "FREQ=DAILY;INTERVAL=3;BYHOUR=23;BYMINUTE=15",
		"every Monday 02:00":                      "FREQ=WEEKLY;INTERVAL=1;BYDAY=MO;BYHOUR=2;BYMINUTE=0",
		"weekly":                                  "every Monday 00:00",
		"every mon, thu and Saturday at 04:00":    "every Monday, Thursday and Saturday 04:00",
		"every 2 weeks on Sunday 03:30":           "FREQ=WEEKLY;INTERVAL=2;BYDAY=SU;BYHOUR=3;BYMINUTE=30",
		"monthly":                                 "every month on the 1st 00:00",
		"every month on the 2nd and 22nd 02:00":   "FREQ=MONTHLY;INTERVAL=1;BYMONTHDAY=2,22;BYHOUR=2;BYMINUTE=0",
		"every month on the last day 02:00":       "FREQ=MONTHLY;INTERVAL=1;BYMONTHDAY=-1;BYHOUR=2;BYMINUTE=0",
		"every month on the first Sunday 02:00":   "FREQ=MONTHLY;INTERVAL=1;BYDAY=+1SU;BYHOUR=2;BYMINUTE=0",
		"every 3 months on the last Friday 22:00": "FREQ=MONTHLY;INTERVAL=3;BYDAY=-1FR;BYHOUR=22;BYMINUTE=0",
		"RRULE:FREQ=WEEKLY;BYDAY=MO;BYHOUR=2":     "every Monday 02:00",
		"FREQ=YEARLY;BYMONTH=3,9;BYMONTHDAY=1":    "FREQ=YEARLY;BYMONTH=3,9;BYMONTHDAY=1;BYHOUR=0;BYMINUTE=0",
		"FREQ=WEEKLY;UNTIL=20270301T000000Z":      "every Monday 00:00 until 2027-03-01",
		"FREQ=DAILY;BYHOUR=1,13;BYMINUTE=0":       "FREQ=DAILY;BYHOUR=1,13;BYMINUTE=0",
	} {
		r, err := Parse(text, time.UTC, since)
		require.NoError(t, err, text)
		if got := r.String(); !strings.HasPrefix(want, "FREQ") || strings.HasPrefix(text, "FREQ") {
			require.Equal(t, want, r.Words(), text)
		} else {
			require.Equal(t, want, got)
			require.Equal(t, text, r.Words(), "the words come back")
		}
		again, err := Parse(r.String(), time.UTC, since)
		require.NoError(t, err)
		require.Equal(t, r.String(), again.String())
		require.Equal(t, r.Words(), again.Words())
	}
}

func TestRulesThatAreRefused(t *testing.T) {
	for text, why := range map[string]string{
		"": "does not say how often", "sometimes": "neither day, week, month", "every 5": "does not say " +
			"how often", "every Monday 25:00": "not a time of day", "every day " +
			"on Monday": `"monday" is not understood`,
		"every month on the 32nd": `"32nd" is not understood`, "every month on the 22th": `"22th" is not understood`,
		"FREQ=SECONDLY": "comes too often", "FREQ=MINUTELY;BYHOUR=2": "comes too often",
		"FREQ=DAILY;BYHOUR=2;BYSECOND=0,1,2":  "comes again after 1s",
		"FREQ=DAILY;BYHOUR=2;BYMINUTE=0,30":   "comes again after 30m0s",
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30": "it never comes",
		"FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30":  "it never comes", "FREQ=WEEKLY;UNTIL=20260101T000000Z": "it never comes",
		"FREQ=WEEKLY;COUNT=3": "end it with UNTIL", "FREQ=WEEKLY;INTERVAL=100000": "interval",
		"FREQ=WEAKLY": "not an RRULE", "FREQ=DAILY;BYHOUR=77": "not an RRULE",
		"FREQ=MONTHLY;BYDAY=8WE": "five at most", "FREQ=DAILY;BYDAY=1WE": "five at most",
	} {
		_, err := Parse(text, time.UTC, since)
		require.ErrorContains(t, err, why, text)
		require.ErrorContains(t, err, "FREQ=WEEKLY;BYDAY=MO", "it says how to write one")
	}
}

// TestPeriods: each lasts until the next begins, in wall time, whatever the clocks do.
func TestPeriods(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	say := func(text string, from, to time.Time, within time.Duration) (out []string) {
		r, err := Parse(text, berlin, since)
		require.NoError(t, err)
		for _, p := range r.Periods(selftest.Span{From: from, To: to}, within) {
			out = append(out, p.From.In(berlin).Format("01-02 15:04")+" "+p.Len().String())
		}
		return out
	}
	at := func(s string) time.Time {
		v, err := time.ParseInLocation("2006-01-02", s, berlin)
		require.NoError(t, err)
		return v
	}
	require.Equal(
		t,
		[]string{"10-12 02:00 168h0m0s", "10-19 02:00 169h0m0s", "10-26 02:00 168h0m0s"},
		say("every Monday 02:00", at("2027-10-15").AddDate(-1, 0, 0), at("2026-10-30"), 0),
	)
	require.Equal(
		t,
		[]string{"03-28 02:30 23h30m0s", "03-29 03:00 23h30m0s", "03-30 02:30 24h0m0s"},
		say("every day 02:30", at("2026-03-28").Add(3*time.Hour), at("2026-03-31"), 0)[0:3],
		"what the clock leaves out comes at the end of the gap",
	)
	require.Equal(
		t,
		[]string{"12-01 00:00 8h0m0s"},
		say("monthly", at("2026-11-23"), at("2026-12-31"), 8*time.Hour),
		"the one of November is over",
	)
	require.Equal(
		t,
		[]string{"11-30 00:00 168h0m0s", "12-07 00:00 168h0m0s"},
		say("FREQ=WEEKLY;UNTIL=20261208T000000Z", at("2026-12-01"), at("2027-12-01"), 0),
		"the last of a rule that ends",
	)
	require.Equal(
		t,
		say("every 2 weeks on Monday", at("2026-11-20"), at("2026-12-20"), 0)[1:],
		say("every 2 weeks on Monday", at("2026-12-01"), at("2026-12-20"), 0),
		"whenever one looks",
	)
}

// TestRulesAndWindowsAgree: in every zone, on every day of two years, a rule and a window of the same time begin at the
// same moment, whether the clock shows it once, twice or not at all.
func TestRulesAndWindowsAgree(t *testing.T) {
	changed := 0
	for _, zone := range []string{"Europe/Berlin", "America/New_York", "Asia/Beirut", "Africa/Cairo",
		"Australia/Lord_Howe", "America/Santiago", "Asia/Kathmandu", "UTC"} {
		loc, err := time.LoadLocation(zone)
		require.NoError(t, err)
		in := selftest.Span{
			From: time.Date(2026, 1, 2, 12, 0, 0, 0, loc),
			To:   time.Date(2027, 12, 30, 12, 0, 0, 0, loc),
		}
		for _, clock := range []string{"00:00", "00:30", "01:00", "01:45", "02:00", "02:30", "03:00", "23:30"} {
			r, err := Parse("every day "+clock, loc, in.From)
			require.NoError(t, err)
			w, err := selftest.ParseWindow("daily " + clock + "-12:00")
			require.NoError(t, err)
			rules, windows := r.Periods(in, 0), selftest.Expand([]selftest.Window{w}, loc, in, selftest.Open)
			begins := map[time.Time]bool{}
			for _, p := range windows {
				begins[p.From.UTC()] = true
			}
			for _, p := range rules {
				if p.From.Before(in.From) || p.From.After(in.To.AddDate(0, 0, -2)) {
					continue
				}
				require.True(t, begins[p.From.UTC()], "%s %s: %s", zone, clock, p.From.In(loc))
				if p.Len() != 24*time.Hour {
					changed++
				}
			}
		}
	}
	require.Greater(t, changed, 100)
}

// TestSkips: a rule that leaves months out says so.
func TestSkips(t *testing.T) {
	for text, want := range map[string]string{"every month on the 31st 02:00": "without a 31st", "every month " +
		"on the 29th 02:00": "without a 29th", "every month on the 28th 02:00": "", "every month on the last " +
		"day 02:00": "",
		"FREQ=MONTHLY;BYDAY=5MO": "without a fifth Monday", "FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=31": "",
		"FREQ=YEARLY;BYMONTH=1,4;BYMONTHDAY=31": "without a 31st", "every Monday 02:00": ""} {
		r, err := Parse(text, time.UTC, since)
		require.NoError(t, err, text)
		if want == "" {
			require.Empty(t, r.Skips(), text)
		} else {
			require.Contains(t, r.Skips(), want)
		}
	}
	_, err := Parse("FREQ=DAILY;INTERVAL=0", time.UTC, since)
	require.ErrorContains(t, err, "interval")
}

func FuzzParse(f *testing.F) {
	f.Add("every Monday 02:00")
	f.Add("every 2 months on the last Friday and first Sunday at 22:00")
	f.Add("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;BYHOUR=2")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Parse(text, time.UTC, since)
		if err != nil {
			return
		}
		again, err := Parse(r.String(), time.UTC, since)
		require.NoError(t, err, r.String())
		require.Equal(t, r.Words(), again.Words())
		last := time.Time{}
		for _, p := range r.Periods(selftest.Span{From: since, To: since.AddDate(0, 2, 0)}, 0) {
			require.True(t, p.From.Before(p.To))
			require.False(t, p.From.Before(last))
			last = p.To
		}
	})
}
