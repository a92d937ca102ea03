package load

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"lantern/internal/api"
)

// People read a page for a time between these before they open the next.
const (
	readLeast = 2 * time.Second
	readMost  = 6 * time.Second
)

// probeEach is how often a drive is removed from a host, to measure how soon people see it.
const probeEach = 5 * time.Second

// patience is the longest wait for an event.
const patience = 30 * time.Second

// steady runs hosts and people until the time is over.
func (m *maker) steady(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, m.For)
	defer cancel()
	var all sync.WaitGroup
	for i, h := range m.fleet {
		all.Go(func() { m.live(ctx, h, m.Every*time.Duration(i)/time.Duration(len(m.fleet))) })
		all.Go(func() { m.takeOrders(ctx, h) })
	}
	for p := range m.People {
		rng := rand.New(rand.NewPCG(m.Seed, uint64(1e6+p)))
		all.Go(func() { m.look(ctx, rng) })
		all.Go(func() { m.listen(ctx) })
	}
	all.Go(func() { m.probe(ctx) })
	all.Wait()
	return nil
}

// live sends the reports of a host: the first after a delay, then at intervals.
func (m *maker) live(ctx context.Context, h *host, first time.Duration) {
	turn := time.NewTimer(first)
	defer turn.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-turn.C:
			turn.Reset(m.Every)
		}
		h.mu.Lock()
		_ = m.push(ctx, h, "report") // failures are counted
		h.mu.Unlock()
	}
}

// takeOrders waits for orders like an agent, and carries them out.
func (m *maker) takeOrders(ctx context.Context, h *host) {
	for ctx.Err() == nil {
		var orders []api.Order
		err := m.ask(ctx, http.MethodGet, "/agent/orders?wait=20", h.token, nil, &orders)
		for _, o := range orders {
			from := time.Now()
			err := m.ask(ctx, http.MethodPost, "/agent/orders/"+o.Id+"/outcome", h.token, h.obey(o), nil)
			if ctx.Err() == nil {
				m.waits.add("outcome of an order", time.Since(from), err)
			}
		}
		if err != nil && ctx.Err() == nil {
			m.waits.add("waiting for orders", 0, err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

// look opens one page after the other, like a person.
func (m *maker) look(ctx context.Context, rng *rand.Rand) {
	for {
		read := readLeast + time.Duration(rng.Int64N(int64(readMost-readLeast)))
		select {
		case <-ctx.Done():
			return
		case <-time.After(read):
		}
		h := m.fleet[rng.IntN(len(m.fleet))]
		d := h.drives[rng.IntN(len(h.drives))]
		pages := []struct{ what, path string }{
			{"round", "/round"}, {"round", "/round"}, {"round", "/round"},
			{"pools, first 200", "/pools?brief=true&limit=200"},
			{"horizon", "/horizon"}, {"horizon", "/horizon"}, {"horizon", "/horizon"},
			{"hosts", "/hosts"},
			{"notices", "/notices"},
			{"drives, first 500", "/drives?limit=500"},
			{"drives to be replaced", "/drives?limit=500&verdict=replace"},
			{"a pool", "/pools/" + url.PathEscape(h.name+"-1")},
			{"a drive", "/drives/" + d.key()}, {"a drive", "/drives/" + d.key()},
			{"a trend of 30 days", "/drives/" + d.key() + "/trend?metric=temperature_celsius&hours=720"},
			{"search", "/search?q=" + d.serial[len(d.serial)-5:]},
			{"who is signed in", "/me"}, {"who is signed in", "/me"},
		}
		page := pages[rng.IntN(len(pages))]
		from := time.Now()
		err := m.get(ctx, page.path, nil)
		if ctx.Err() != nil {
			return
		}
		m.waits.add("GET "+page.what, time.Since(from), err)
	}
}

// awaited is an event that must reach everybody.
type awaited struct {
	what string
	is   func(api.Event) bool
	from time.Time
	seen int
	all  chan struct{} // closed when everybody has seen it
}

// listen follows the events like a console, and measures the delay of awaited ones.
func (m *maker) listen(ctx context.Context) {
	for ctx.Err() == nil {
		if err := m.stream(ctx); err != nil && ctx.Err() == nil {
			m.waits.add("stream of events", 0, err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (m *maker) stream(ctx context.Context) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, m.Server+"/api/v1/events", nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+m.Token)
	res, err := m.client.Do(r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("GET /events: %s", res.Status)
	}
	lines := bufio.NewScanner(res.Body)
	for lines.Scan() {
		text, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e api.Event
		if err := json.Unmarshal([]byte(text), &e); err != nil {
			return err
		}
		m.received(e)
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return fmt.Errorf("the service ended the stream")
}

// received records the delay of an awaited event.
func (m *maker) received(e api.Event) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, a := range m.awaits {
		if a.seen < m.People && a.is(e) {
			m.waits.add(a.what, time.Since(a.from), nil)
			if a.seen++; a.seen == m.People {
				close(a.all)
			}
		}
	}
}

// probe removes one drive after the other until the time is over, and in the middle all drives of a host at once.
// People must see it soon.
func (m *maker) probe(ctx context.Context) {
	rng := rand.New(rand.NewPCG(m.Seed, 7))
	each := time.NewTicker(probeEach)
	defer each.Stop()
	half := time.Now().Add(m.For / 2)
	for {
		select {
		case <-ctx.Done():
			return
		case <-each.C:
		}
		h := m.fleet[rng.IntN(len(m.fleet))]
		i := rng.IntN(len(h.drives))
		lost := []int{i}
		if !half.IsZero() && time.Now().After(half) {
			half, lost = time.Time{}, nil
			for i := range h.drives {
				lost = append(lost, i)
			}
		}
		m.lose(ctx, h, lost)
	}
}

// lose removes drives from a host, waits until everybody has seen that and its notice, and puts them back.
func (m *maker) lose(ctx context.Context, h *host, drives []int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, i := range drives {
		h.absent[i] = true
	}
	now, last := time.Now(), h.drives[drives[len(drives)-1]]
	many := ""
	if len(drives) > 1 {
		many = fmt.Sprintf(", %d drives", len(drives))
	}
	awaits := []*awaited{
		{what: "event on a screen: a drive left" + many, is: func(e api.Event) bool {
			return e.Kind == api.EventKindDrive && e.Subject == last.key()
		}},
		{what: "notice on a screen: a drive vanished" + many, is: func(e api.Event) bool {
			return e.Kind == api.EventKindNotice && (strings.Contains(e.Says, last.tail()) || strings.Contains(e.Says, h.name))
		}},
	}
	for _, a := range awaits {
		a.from, a.all = now, make(chan struct{})
	}
	m.mu.Lock()
	m.awaits = awaits
	m.mu.Unlock()
	_ = m.push(ctx, h, "report: a drive left"+many)
	over := time.After(patience)
	for _, a := range awaits {
		select {
		case <-ctx.Done():
		case <-a.all:
		case <-over:
			m.mu.Lock()
			m.waits.add(a.what, 0, fmt.Errorf("%d of %d did not see it within %v", m.People-a.seen, m.People, patience))
			m.mu.Unlock()
		}
	}
	m.mu.Lock()
	m.awaits = nil
	m.mu.Unlock()
	clear(h.absent)
	_ = m.push(ctx, h, "report: back again"+many)
}
