package views

import (
	"cmp"
	"hash/fnv"
	"maps"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
)

// SiteState is the state of a service that a headquarters gets, without its hosts.
type SiteState struct {
	Version string `json:"version"`
	// Round is its round without the lines, which are in HostState.
	Round   api.Round        `json:"round"`
	Horizon api.HorizonBlock `json:"horizon"` // all its pools as one block
	Systems []api.PoolSystem `json:"systems"`
	Pools   []SitePool       `json:"pools"`
	Hosts   []string         `json:"hosts"`
	Stock   []api.StockItem  `json:"stock"`
}

// SitePool is a pool for the search of a headquarters.
type SitePool struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

// HostState is the state of a host that a headquarters gets.
type HostState struct {
	Host   string      `json:"host"`
	Room   string      `json:"room,omitempty"`
	Lines  []SiteLine  `json:"lines"`
	Drives []SiteDrive `json:"drives"`
}

// SiteLine is a line of the round, with its rank.
type SiteLine struct {
	Line   api.RoundLine `json:"line"`
	Matter health.Matter `json:"matter"`
}

// SiteDrive is a drive for a headquarters.
type SiteDrive struct {
	Key     string      `json:"key"`
	Tail    string      `json:"tail"`
	Serial  string      `json:"serial"`
	WWN     string      `json:"wwn,omitempty"`
	Model   string      `json:"model"`
	Bay     string      `json:"bay,omitempty"`
	Place   string      `json:"place"` // in words
	Pool    string      `json:"pool,omitempty"`
	Verdict api.Verdict `json:"verdict"`
	Present bool        `json:"present"`
	// Since is the time when this site saw it first.
	Since int64 `json:"since"` // Unix seconds
}

// nowhere is the host name for drives whose host is not enrolled any more.
const nowhere = "-"

// Site returns the state of the service, and of the hosts whose stamps differ from those in sent. It updates sent.
func (s *Service) Site(sent map[string]uint64) (SiteState, []HostState) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := SiteState{Round: s.round(), Stock: s.stock.Items(), Horizon: api.HorizonBlock{Known: true}, Pools: []SitePool{}}
	hidden := map[string]bool{}
	for _, h := range out.Round.Silent {
		hidden[h.Host] = true
	}
	out.Round.Lines = []api.RoundLine{}
	all, moving := s.poolsByMargin(), s.moving()
	for i, p := range all {
		out.Pools = append(out.Pools, SitePool{p.Name, p.Kind})
		b := p.block
		b.Moving = fleet.BoolInt(moving[p.ID])
		if i == 0 {
			out.Horizon = b
		} else {
			out.Horizon = JoinBlocks(out.Horizon, b)
		}
	}
	out.Systems = s.systems(all)
	names := map[string]bool{nowhere: true}
	for name := range s.fleet.Hosts {
		names[name] = true
	}
	out.Hosts = slices.Sorted(maps.Keys(names))
	var hosts []HostState
	for _, name := range out.Hosts {
		drives := s.fleet.ByHost(name)
		if name == nowhere {
			drives = s.hostless(names)
		}
		if stamp := s.stamp(name, drives, hidden[name]); sent[name] != stamp {
			sent[name] = stamp
			hosts = append(hosts, s.hostState(name, drives, hidden[name]))
		}
	}
	maps.DeleteFunc(sent, func(name string, _ uint64) bool { return !names[name] })
	return out, hosts
}

// hostless returns the drives whose host is not enrolled.
func (s *State) hostless(hosts map[string]bool) (out []*fleet.Drive) {
	for _, d := range s.fleet.ByPlace() {
		if !hosts[d.Host] {
			out = append(out, d)
		}
	}
	return out
}

// stamp is a hash of everything that hostState depends on.
func (s *State) stamp(name string, drives []*fleet.Drive, hidden bool) uint64 {
	h, verdicts, places := fnv.New64a(), s.judging.Judge(), s.judging.Places()
	put := func(v uint64) {
		var b [8]byte
		for i := range b {
			b[i] = byte(v >> (8 * i))
		}
		h.Write(b[:])
	}
	h.Write([]byte(s.fleet.RoomOf(name)))
	put(1)
	if hidden {
		put(2)
	}
	for _, d := range drives {
		h.Write([]byte(d.Key()))
		h.Write([]byte(verdicts[d.Key()].Verdict))
		if p := places[d.Key()].Pool; p != nil {
			h.Write([]byte(p.Name))
		}
		put(uint64(d.Version()))
		if l := s.kept.lines[d.Key()]; l != nil {
			put(l.made)
		}
	}
	return h.Sum64()
}

func (s *State) hostState(name string, drives []*fleet.Drive, hidden bool) HostState {
	out := HostState{Host: name, Room: s.fleet.RoomOf(name), Lines: []SiteLine{},
		Drives: make([]SiteDrive, 0, len(drives))}
	verdicts, places := s.judging.Judge(), s.judging.Places()
	for _, d := range drives {
		key := d.Key()
		x := SiteDrive{Key: key, Tail: d.Tail(), Serial: d.Desc.Serial, WWN: d.Desc.WWN, Model: d.Desc.Model,
			Bay: d.BayName(), Place: fleet.PlaceWords(d), Verdict: api.Verdict(verdicts[key].Verdict), Present: d.Present,
			Since: d.FirstAt.Unix()}
		if p := places[key].Pool; p != nil {
			x.Pool = p.Name
		}
		out.Drives = append(out.Drives, x)
		if l := s.kept.lines[key]; l != nil && !(hidden && l.cause != "") {
			out.Lines = append(out.Lines, SiteLine{l.line, l.matter})
		}
	}
	slices.SortFunc(out.Drives, func(a, b SiteDrive) int { return cmp.Compare(a.Key, b.Key) })
	return out
}
