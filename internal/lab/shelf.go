package lab

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"

	"lantern/internal/agent"
	"lantern/internal/core/enclosure"
)

// shelf is an enclosure that speaks: a device on the bus of its host that answers the diagnostic pages of SES-3, and
// takes its control page. Its slots are an array of a section's bays; beside them it has supplies, fans and sensors.
type shelf struct {
	host    *Host
	section enclosure.Section
}

// shelfParts are its other elements, in the order of its configuration.
var shelfParts = []struct {
	kind  enclosure.ElementType
	names []string
}{{enclosure.PowerSupply, []string{"left", "right"}}, {enclosure.Cooling, []string{"1", "2", "3", "4"}},
	{enclosure.TemperatureSensor, []string{"front", "middle", "rear"}}}

// Boxes are the shelves of a host that speak.
func (h *Host) Boxes(context.Context) ([]agent.BoxFound, error) {
	if h.Mute || h.Speaks == "" {
		return nil, nil
	}
	for _, l := range h.Layout {
		if l.Name == h.Speaks {
			return []agent.BoxFound{{ID: l.Name, Transport: shelf{h, l.Sections[0]}, Layout: &l}}, nil
		}
	}
	return nil, nil
}

// Break makes a part of a host's shelf fail, such as "fan 2", or well again.
func (f *Fleet) Break(host, part string, well bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, h := range f.Hosts {
		if h.Name != host || h.Speaks == "" {
			continue
		}
		for _, p := range shelfParts {
			for _, n := range p.names {
				if part == p.kind.String()+" "+n {
					h.Broken = slices.DeleteFunc(h.Broken, func(x string) bool { return x == part })
					if !well {
						h.Broken = append(h.Broken, part)
					}
					return f.save()
				}
			}
		}
		return impossible("the shelf of %s has no part %q; it has such as %q", host, part, "cooling 2")
	}
	return impossible("no shelf of the lab host %q speaks", host)
}

const shelfGeneration = 3

// Execute carries out RECEIVE DIAGNOSTIC RESULTS or SEND DIAGNOSTIC.
func (s shelf) Execute(_ context.Context, cmd, data []byte) ([]byte, error) {
	s.host.fleet.mu.Lock()
	defer s.host.fleet.mu.Unlock()
	switch {
	case len(cmd) == 6 && cmd[0] == 0x1C && cmd[1]&1 != 0:
		page := map[byte]func() []byte{enclosure.SESConfig: s.config, enclosure.SESStatus: s.status,
			enclosure.SESDescriptors: s.descriptors, enclosure.SESAdditional: s.additional}[cmd[2]]
		if page == nil {
			return nil, fmt.Errorf("there is no diagnostic page %02Xh", cmd[2])
		}
		copy(data, page())
		return nil, nil
	case len(cmd) == 6 && cmd[0] == 0x1D && cmd[1]&0x10 != 0:
		return nil, s.control(data)
	}
	return nil, fmt.Errorf("the shelf does not know the command %x", cmd)
}

func sesHead(code byte, body []byte) []byte {
	out := []byte{code, 0, 0, 0, 0, 0, 0, shelfGeneration}
	out = append(out, body...)
	binary.BigEndian.PutUint16(out[2:], uint16(len(out)-4))
	return out
}

func (s shelf) config() []byte {
	body := make([]byte, 40)
	body[2], body[3] = byte(1+len(shelfParts)), 36
	copy(body[4:], []byte{0x50, 0x02, 0xAB, 0xE7, 0, 0, 0, 0x24})
	copy(body[12:], fmt.Sprintf("%-8s%-16s%-4s", "TARNWICK", "SHELF 24", "0107"))
	body = append(body, byte(enclosure.ArraySlot), byte(s.section.Bays()), 0, 0)
	for _, p := range shelfParts {
		body = append(body, byte(p.kind), byte(len(p.names)), 0, 0)
	}
	return sesHead(enclosure.SESConfig, body)
}

// each calls f for every element in the order of the pages: overall ones with an index of -1, slots without a part's
// name.
func (s shelf) each(f func(kind enclosure.ElementType, index int, part string)) {
	for i := -1; i < s.section.Bays(); i++ {
		f(enclosure.ArraySlot, i, "")
	}
	for _, p := range shelfParts {
		f(p.kind, -1, "")
		for i, n := range p.names {
			f(p.kind, i, n)
		}
	}
}

func (s shelf) drive(bay int) *Drive {
	for _, d := range s.host.fleet.Drives {
		if at, ok := d.at(
			s.host.time(),
		); ok && at.Host == s.host.Name && at.Section == s.section.Name &&
			at.Bay == bay {
			return d
		}
	}
	return nil
}

func (s shelf) status() []byte {
	var body []byte
	s.each(func(kind enclosure.ElementType, index int, part string) {
		e := []byte{0, 0, 0, 0}
		switch {
		case index < 0:
		case kind == enclosure.ArraySlot:
			if e[0] = 5; s.drive(index+1) != nil {
				e[0] = 1
			}
			if slices.Contains(s.host.Lit[s.section.Name], index+1) {
				e[2] = 0x02
			}
		case slices.Contains(s.host.Broken, kind.String()+" "+part):
			e[0], e[3] = 2, 0x40
			if kind == enclosure.TemperatureSensor {
				e[2], e[3] = 20+61, 0x08
			}
		case kind == enclosure.TemperatureSensor:
			e[0], e[2] = 1, byte(20+26+index)
		case kind == enclosure.Cooling:
			e[0], e[1], e[2], e[3] = 1, 0x01, 0x90, 0x04 // 4,000 rpm
		default:
			e[0] = 1
		}
		body = append(body, e...)
	})
	return sesHead(enclosure.SESStatus, body)
}

func (s shelf) descriptors() []byte {
	var body []byte
	s.each(func(kind enclosure.ElementType, index int, part string) {
		if index >= 0 && kind == enclosure.ArraySlot {
			part = fmt.Sprintf("bay %02d", index+1)
		}
		body = append(body, 0, 0, 0, byte(len(part)))
		body = append(body, part...)
	})
	return sesHead(enclosure.SESDescriptors, body)
}

// additional gives the SAS address of the drive in each slot (SES-3 6.1.13). In the lab that is its WWN.
func (s shelf) additional() []byte {
	var body []byte
	for bay := 1; bay <= s.section.Bays(); bay++ {
		d := make([]byte, 36)
		d[0], d[1] = 0x16, 34 // SAS, with an element index
		d[3], d[4], d[7] = byte(bay-1), 1, byte(bay)
		if x := s.drive(bay); x != nil {
			if wwn, err := hex.DecodeString(x.Desc.WWN); err == nil {
				d[11] = 1 // SATA
				copy(d[20:], wwn)
			}
		}
		body = append(body, d...)
	}
	return sesHead(enclosure.SESAdditional, body)
}

// control takes the control page: the lights of those slots that it selects.
func (s shelf) control(page []byte) error {
	if len(page) < 8 || page[0] != enclosure.SESStatus || binary.BigEndian.Uint32(page[4:]) != shelfGeneration {
		return fmt.Errorf("the shelf does not take this control page")
	}
	for bay := 1; bay <= s.section.Bays(); bay++ {
		e := page[8+4*bay:]
		if e[0]&0x80 == 0 {
			continue
		}
		lit := slices.DeleteFunc(s.host.Lit[s.section.Name], func(n int) bool { return n == bay })
		if e[2]&0x02 != 0 {
			lit = append(lit, bay)
			slices.Sort(lit)
		}
		s.host.Lit[s.section.Name] = lit
	}
	return s.host.fleet.save()
}
