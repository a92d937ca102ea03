package daemon

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// moments is at how many random moments of a run it is kept what was answered.
const moments = 200

// TestPast: the answers at random moments of a run with many events (swaps, hosts without power, a wrong drive,
// self-tests, people's actions) are the same, byte for byte, when they are asked for as of then.
func TestPast(t *testing.T) {
	y := newYard(t, nil)
	token, err := y.r.service.People.NewToken("ida")
	require.NoError(t, err)
	ask := func(method, path string, at time.Time) (int, string) {
		u := y.r.url + "/api/v1" + path
		if !at.IsZero() {
			u += map[bool]string{true: "&", false: "?"}[strings.Contains(path, "?")] + "at=" + url.QueryEscape(
				at.Format(time.RFC3339Nano),
			)
		}
		r, err := http.NewRequestWithContext(t.Context(), method, u, strings.NewReader("{}"))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b)
	}
	start := y.fleet.Clock().Now()
	r := rand.New(rand.NewPCG(2026, 11))
	tails := []string{"ZU006", "LM417", "CN261", "UN257", "KM297", "XE932", "RL377", "GA301"}
	paths := []string{
		"/round",
		"/drives",
		"/pools",
		"/hosts",
		"/notices?all=true",
		"/swaps",
		"/recoveries",
		"/bays/skerry",
		"/bays/guillemot",
		"/stock",
		"/selftests",
		"/selftests/standing",
		"/rules",
		"/lights",
		"/inventory",
		"/acceptances",
		"/campaigns",
		"/plans",
	}
	for _, p := range y.r.service.Views.AllPools() {
		paths = append(paths, "/pools/"+p.Name)
	}
	type kept struct {
		at           time.Time
		path, answer string
	}
	var all []kept
	did := map[string]int{}
	s := y.r.service
	acts := map[string]func() error{
		"swap": func() error {
			if open := s.Swaps.Swaps(true); len(open) > 0 {
				w := open[0]
				if w.Phase != api.SwapPhasePlanned {
					_, err := s.Swaps.ActOnSwap("abandon", "ida", w.Id, "", "enough")
					return err
				}
				_, err := s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "its turn"})
				return err
			}
			_, err := s.Swaps.PlanSwap("ida", tails[r.IntN(3)])
			return err
		},
		"pull": func() error {
			_, err := y.fleet.Pull(fmt.Sprintf("skerry/front/%d", 1+r.IntN(9)))
			return err
		},
		"power": func() error {
			y.dark["petrel"] = !y.dark["petrel"]
			return y.fleet.Power("petrel", !y.dark["petrel"])
		},
		"light": func() error {
			_, err := s.Bays.LightOn("ida", api.LightOn{Drive: tails[r.IntN(len(tails))], Seconds: 600})
			return err
		},
		"test": func() error {
			_, err := s.Selftests.StartTests("ida", api.TestOrder{Drive: tails[r.IntN(len(tails))], Kind: "short"})
			return err
		},
		"mute": func() error {
			open, err := s.Notices.Notices(false)
			if err != nil || len(open) == 0 {
				return err
			}
			_, err = s.Notices.Acknowledge("ida", open[r.IntN(len(open))].Id, "seen")
			return err
		},
		"threshold": func() error {
			_, err := s.Judging.SetThreshold(
				"ida",
				api.ThresholdSet{Name: "hot_limit", Value: float64(50 + r.IntN(10))},
			)
			return err
		},
		"rename": func() error {
			_, err := s.RenamePool("ida", "logbook", "log")
			if err != nil {
				_, err = s.RenamePool("ida", "log", "logbook")
			}
			return err
		},
		"inventory": func() error {
			_, err := s.Inventory.SetItem(
				"ida",
				tails[r.IntN(len(tails))],
				api.InventorySet{Fields: map[string]string{"asset": fmt.Sprint(r.IntN(99))}},
			)
			return err
		},
		"fold": s.Readings.Fold,
	}
	names := []string{
		"swap",
		"swap",
		"pull",
		"power",
		"light",
		"test",
		"mute",
		"threshold",
		"rename",
		"inventory",
		"fold",
	}
	for range moments {
		if name := names[r.IntN(len(names))]; acts[name]() == nil {
			did[name]++
		}
		y.pass(time.Duration(1+r.IntN(1200)) * time.Second)
		now := y.fleet.Clock().Now()
		one := kept{at: now, path: paths[r.IntN(len(paths))]}
		if r.IntN(3) == 0 {
			one.path = "/drives/" + tails[r.IntN(len(tails))]
		}
		code, answer := ask("GET", one.path, time.Time{})
		if code == http.StatusOK {
			one.answer = answer
			all = append(all, one)
		}
		y.fleet.Clock().Forward(time.Millisecond) // what follows is later
		if r.IntN(20) == 0 {
			_, err := s.Store.PackPast()
			require.NoError(t, err)
		}
	}
	for _, name := range names {
		require.Positive(t, did[name], "%s was never done", name)
	}
	require.Greater(t, len(all), moments*3/4)
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	for _, k := range all {
		code, answer := ask("GET", k.path, k.at)
		require.Equal(t, http.StatusOK, code, answer)
		if k.answer != answer {
			t.Errorf("%s as of %s: %s", k.path, k.at, parts(k.answer, answer))
		}
	}

	// An export of that moment is in the audit, like an export of now.
	code, _ := ask("GET", "/readings", all[0].at)
	require.Equal(t, http.StatusOK, code)
	_, audit := ask("GET", "/audit?newest=3", time.Time{})
	require.Contains(t, audit, "getLatestReadings")

	// Nothing can be changed there, and moments that are not kept or in the future are refused.
	for _, c := range []struct {
		method, path string
		at           time.Time
		status       int
		says         string
	}{
		{"POST", "/lights", all[0].at, 409, "Nothing can be changed"},
		{"GET", "/audit", all[0].at, 422, "cannot be asked as of an earlier moment"},
		{"GET", "/round", start.AddDate(0, 0, -2), 404, "is not kept"},
		{"GET", "/round", y.fleet.Clock().Now().Add(time.Hour), 422, "in the future"},
	} {
		code, says := ask(c.method, c.path, c.at)
		require.Equal(t, c.status, code, says)
		require.Contains(t, says, c.says)
	}
}

// parts shows where two texts begin to differ.
func parts(a, b string) string {
	i := 0
	for i < min(len(a), len(b)) && a[i] == b[i] {
		i++
	}
	cut := func(s string) string { return s[max(0, i-160):min(len(s), i+120)] }
	return "\n was " + cut(a) + "\n is  " + cut(b)
}
