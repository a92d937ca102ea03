package wire

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// Extents to the API.
func Extents(in []pool.Extent) (out []api.Extent) {
	for _, e := range in {
		out = append(out, api.Extent{Slots: e.Slots, Need: e.Need, Bytes: int64(e.Bytes)})
	}
	return out
}

func toExtents(in []api.Extent) (out []pool.Extent) {
	for _, e := range in {
		out = append(out, pool.Extent{Slots: e.Slots, Need: e.Need, Bytes: drive.Bytes(e.Bytes)})
	}
	return out
}

// Margin to the API.
func Margin(m pool.Margin, known bool) api.Margin {
	if !known {
		return api.Margin{Known: false, Words: "unknown"}
	}
	return api.Margin{Known: true, Members: int(m), Words: m.String()}
}

// MarginBy to the API, with its limit.
func MarginBy(m pool.Margin, known bool, by string) api.Margin {
	out := Margin(m, known)
	if known {
		out.LimitedBy = by
	}
	return out
}

// ReadPool reads a pool from its file: JSON like a pool of the API, in which most fields are optional. It is checked;
// missing fields have the defaults of docs/pool-file.md. An error gives the place in the file, and the reason.
func ReadPool(in io.Reader) (pool.Pool, api.Pool, error) {
	const most = 64 << 20
	raw, err := io.ReadAll(io.LimitReader(in, most+1))
	if err != nil {
		return pool.Pool{}, api.Pool{}, err
	}
	if len(raw) > most {
		return pool.Pool{}, api.Pool{}, fmt.Errorf("a pool's file has no more than %d bytes", most)
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		return pool.Pool{}, api.Pool{}, errors.New("this is not a pool's file: it is empty")
	}
	var v api.Pool
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&v); err != nil {
		return pool.Pool{}, v, fmt.Errorf(
			"%s this is not a pool's file: %s",
			position(raw, d, err),
			strings.TrimPrefix(err.Error(), "json: "),
		)
	}
	if err := negative(v); err != nil {
		return pool.Pool{}, v, err
	}
	p := ToPoolView(v)
	if err := defaults(raw, &p); err != nil {
		return p, v, err
	}
	if err := p.Check(); err != nil {
		return p, v, err
	}
	return p, v, p.Plausible()
}

// position is the place in a file where reading stopped: line and column from 1.
func position(raw []byte, d *json.Decoder, err error) string {
	at := d.InputOffset()
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		at = syntax.Offset
	case errors.As(err, &kind):
		at = kind.Offset
	}
	before := raw[:min(int(at), len(raw))]
	return fmt.Sprintf(
		"line %d, column %d:",
		1+bytes.Count(before, []byte("\n")),
		len(before)-bytes.LastIndexByte(before, '\n'),
	)
}

// negative finds a size below zero, which a pool of the core cannot represent.
func negative(v api.Pool) error {
	type size struct {
		at string
		n  int64
	}
	all := []size{{"capacity_bytes", v.CapacityBytes}, {"used_bytes", v.UsedBytes}}
	members := func(at string, in []api.Member) {
		for i, m := range in {
			at := fmt.Sprintf("%s[%d]", at, i)
			all = append(
				all,
				size{at + ".size_bytes", m.SizeBytes},
				size{at + ".used_bytes", m.UsedBytes},
				size{at + ".needs_bytes", m.NeedsBytes},
			)
		}
	}
	for i, g := range v.Groups {
		members(fmt.Sprintf("groups[%d].members", i), g.Members)
	}
	members("spares", v.Spares)
	members("logs", v.Logs)
	for i, x := range v.Volumes {
		all = append(all, size{fmt.Sprintf("volumes[%d].used_bytes", i), x.UsedBytes})
		for j, e := range x.Extents {
			all = append(all, size{fmt.Sprintf("volumes[%d].extents[%d].bytes", i, j), e.Bytes})
		}
	}
	for _, x := range all {
		if x.n < 0 {
			return fmt.Errorf("%s: %d is negative", x.at, x.n)
		}
	}
	return nil
}

// defaults sets the missing fields of a volume: the protection of its group; or, with a protection of its own, the only
// group.
func defaults(raw []byte, p *pool.Pool) error {
	var told struct {
		Volumes []struct {
			Protect json.RawMessage `json:"protect"`
		} `json:"volumes"`
	}
	if err := json.Unmarshal(raw, &told); err != nil {
		return err
	}
	for i := range p.Volumes {
		v, own := &p.Volumes[i], len(told.Volumes[i].Protect) > 0 && string(told.Volumes[i].Protect) != "null"
		at := fmt.Sprintf("volumes[%d]", i)
		switch {
		case own && v.Protect.None:
			return fmt.Errorf(
				"%s.protect.none: a volume protects itself or has its group's protection; leave its protect out",
				at,
			)
		case own && v.Group == "" && !slices.ContainsFunc(p.Groups,
			func(g pool.Group) bool { return !alike(g.Protect, v.Protect) }):
			// It is spread over all groups, as each of them protects it.
		case own && v.Group == "" && len(p.Groups) == 1:
			v.Group = p.Groups[0].Name
			if v.Group == "" { // a group may have no name of its own
				p.Groups[0].Name, v.Group = "the group", "the group"
			}
		case own && v.Group == "":
			return fmt.Errorf(
				"%s.group: the volume %q has a protection that is not that of all %d groups; name the group "+
					"that it is on",
				at,
				v.Name,
				len(p.Groups),
			)
		case !own && v.Group != "":
			if err := asItsGroup(v, p.Groups, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// asItsGroup gives a volume the protection of its group.
func asItsGroup(v *pool.Volume, groups []pool.Group, at string) error {
	for _, g := range groups {
		if g.Name == v.Group && g.Protect.None {
			return fmt.Errorf(
				"%s.protect: the group %q protects nothing itself, so the volume %q needs a protection of its own",
				at,
				g.Name,
				v.Name,
			)
		} else if g.Name == v.Group {
			v.Protect = g.Protect
		}
	}
	return nil
}

// alike reports whether two protections tolerate the same losses, whatever their names.
func alike(a, b pool.Protection) bool {
	for _, p := range []*pool.Protection{&a, &b} {
		if p.Words = ""; p.Data == 0 {
			p.Data = 1 // both are copies
		}
	}
	return a == b
}

// ToPoolView converts a pool of the API.
func ToPoolView(v api.Pool) pool.Pool {
	members := func(in []api.Member, otherwise pool.MemberState) []pool.Member {
		var out []pool.Member
		for _, m := range in {
			out = append(
				out,
				pool.Member{
					Slot:      m.Slot,
					Drive:     m.Drive,
					State:     pool.MemberState(cmp.Or(m.State, string(otherwise))),
					Domain:    m.Domain,
					Log:       m.Log,
					Parity:    m.Parity,
					Beside:    m.Beside,
					StandsFor: m.StandsFor,
					Size:      drive.Bytes(m.SizeBytes),
					Used:      drive.Bytes(m.UsedBytes),
					Needs:     drive.Bytes(m.NeedsBytes),
				},
			)
		}
		return out
	}
	p := pool.Pool{
		ID:       v.Id,
		Name:     cmp.Or(v.Name, "the pool"),
		Kind:     v.Kind,
		Capacity: drive.Bytes(v.CapacityBytes),
		Used:     drive.Bytes(v.UsedBytes),
		Limit:    v.Limit,
		Spares:   members(v.Spares, pool.Standby),
		Logs:     members(v.Logs, pool.Online),
	}
	for _, g := range v.Groups {
		pr := toProtection(g.Protect)
		pr.Words = cmp.Or(pr.Words, g.Protection)
		p.Groups = append(
			p.Groups,
			pool.Group{
				Name:    g.Name,
				Protect: pr,
				Spread:  g.Spread,
				Heals:   g.Heals,
				Members: members(g.Members, pool.Online),
			},
		)
	}
	for _, x := range v.Volumes {
		pr := toProtection(x.Protect)
		pr.Words = cmp.Or(pr.Words, x.Protection)
		p.Volumes = append(
			p.Volumes,
			pool.Volume{
				Name:    x.Name,
				Group:   x.Group,
				Protect: pr,
				Used:    drive.Bytes(x.UsedBytes),
				Extents: toExtents(x.Extents),
			},
		)
	}
	return p
}

// Prospect to the API. label gives the properties of the drive at a slot.
func Prospect(p *pool.Pool, w pool.Prospect, label func(slot string) api.LostMember) api.Prospect {
	out := api.Prospect{
		Pool:      p.Name,
		Lose:      []api.LostMember{},
		Along:     append([]string{}, w.Along...),
		Outcome:   api.PoolOutcome(w.Worst()),
		Was:       MarginBy(w.Was, w.Known, w.WasBy),
		Is:        MarginBy(w.Is, w.Known, w.IsBy),
		Healed:    Margin(w.Healed, w.Known),
		Effects:   []api.Effect{},
		Comebacks: []api.Comeback{},
	}
	for _, s := range w.Lose {
		if !slices.Contains(w.Along, s) {
			out.Lose = append(out.Lose, label(s))
		}
	}
	for _, e := range w.Effects {
		known := e.Outcome != pool.Untold
		logs := func(names string) string {
			if names != "" {
				return "log device " + names
			}
			return ""
		}
		out.Effects = append(
			out.Effects,
			api.Effect{
				Volume:     e.Volume,
				Group:      e.Group,
				Protection: e.Words,
				Outcome:    api.PoolOutcome(e.Outcome),
				Was: MarginBy(
					e.Was,
					known,
					logs(e.WasBy),
				),
				Is:        MarginBy(e.Is, known, logs(e.IsBy)),
				UsedBytes: int64(e.Used),
			},
		)
	}
	for _, c := range w.Comebacks {
		v := api.Comeback{
			Slot:       c.Slot,
			ByItself:   c.By != "",
			Says:       c.Says,
			NeedsBytes: int64(c.Needs),
			HasBytes:   int64(c.Has),
		}
		if c.By != "" && c.By != "others" {
			v.Spare = c.By
		}
		out.Comebacks = append(out.Comebacks, v)
	}
	return out
}

// Room to the API.
func Room(r pool.Room) api.MoveRoom {
	return api.MoveRoom{
		Fits:       r.Fits,
		OthersMove: r.Others,
		Why:        r.Why,
		NeedBytes:  int64(r.Need),
		FreeBytes:  int64(r.Free),
	}
}

// Endurance to the API, the worst outcome first.
func Endurance(e pool.Endurance) api.Endurance {
	out := api.Endurance{Lost: e.N, Sets: e.Sets}
	for _, o := range []pool.Outcome{pool.Lost, pool.Unreachable, pool.Untold, pool.Reduced, pool.Safe} {
		if n := e.Of[o]; n > 0 {
			out.Of = append(out.Of, api.EnduranceOf{Outcome: api.PoolOutcome(o), Sets: n})
		}
	}
	out.Worst = []api.EnduranceWorst{}
	for _, w := range e.Worst {
		out.Worst = append(
			out.Worst,
			api.EnduranceWorst{Lose: w.Lose, Outcome: api.PoolOutcome(w.Outcome), Volumes: w.Volumes},
		)
	}
	return out
}

// WhatIf computes all consequences of the loss of members; names are slots, drives or failure domains.
func WhatIf(
	p *pool.Pool,
	names []string,
	survives int,
	limit float64,
	label func(slot string) api.LostMember,
) (api.Prospect, error) {
	slots, err := p.Places(names)
	if err != nil {
		return api.Prospect{}, err
	}
	q := *p
	if limit > 0 {
		q.Limit = limit
	}
	out := Prospect(&q, q.WhatIf(slots), label)
	if len(slots) > 0 {
		out.Room = Room(q.Room(slots, limit))
	}
	if survives > 0 {
		e, err := q.Survives(survives)
		if err != nil {
			return api.Prospect{}, err
		}
		out.Endurance = Endurance(e)
	}
	return out, nil
}

// Moves finds the order of changes that moves least.
func Moves(p *pool.Pool, asked api.MovesAsked) (api.MoveOrder, error) {
	group := asked.Group
	if group == "" && len(p.Groups) == 1 {
		group = p.Groups[0].Name
	}
	var changes []pool.Change
	for i, c := range asked.Changes {
		ch := pool.Change{After: c.After}
		domain := c.Domain
		if c.Out != "" {
			slots, err := p.Places([]string{c.Out})
			if err != nil {
				return api.MoveOrder{}, err
			}
			if len(slots) != 1 {
				return api.MoveOrder{}, fmt.Errorf("%q stands for %d members; name one", c.Out, len(slots))
			}
			m, in, _ := p.Slot(slots[0])
			if group == "" {
				group = in
			}
			if ch.Out = m.Slot; in != group {
				return api.MoveOrder{}, fmt.Errorf("%s is not in %s", c.Out, group)
			}
			domain = cmp.Or(domain, m.Domain)
		}
		if c.InBytes > 0 {
			ch.In = &pool.Member{
				Slot:   fmt.Sprintf("new %d", i+1),
				State:  pool.Online,
				Size:   drive.Bytes(c.InBytes),
				Domain: domain,
			}
		}
		if ch.In == nil && ch.Out == "" {
			return api.MoveOrder{}, fmt.Errorf("change %d neither takes a drive out nor brings one", i+1)
		}
		changes = append(changes, ch)
	}
	if len(changes) == 0 {
		return api.MoveOrder{}, fmt.Errorf("no change was asked for")
	}
	o, err := p.BestOrder(group, changes, asked.Limit)
	if err != nil {
		return api.MoveOrder{}, err
	}
	out := api.MoveOrder{
		Bytes:        int64(o.Bytes),
		AsAskedBytes: int64(o.AsIs),
		Proven:       o.Proven,
		Basis:        o.Basis,
		Steps:        []api.MoveOrderStep{},
	}
	for _, s := range o.Steps {
		v := api.MoveOrderStep{
			Words:  s.Words,
			Bytes:  int64(s.Bytes),
			Margin: Margin(s.Margin, s.Known),
			Moves:  []api.MoveOrderMove{},
		}
		for _, m := range s.Moves {
			v.Moves = append(v.Moves, api.MoveOrderMove{From: m.From, To: m.To, Bytes: int64(m.Bytes)})
		}
		out.Steps = append(out.Steps, v)
	}
	return out, nil
}
