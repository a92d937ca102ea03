package page

import (
	"fmt"

	"lantern/internal/core/enclosure"
)

var sesKinds = []Kind{
	{
		"ses",
		"enclosure services diagnostic pages 00h, 01h, 02h, 07h, 0Ah; put the configuration (01h) first and the " +
			"others behind it to have their elements named",
		"SES-3 6.1",
		4,
		false,
		ses,
	},
}

// ses decodes concatenated diagnostic pages; each carries its length.
func ses(p *Page, b []byte) {
	var config *enclosure.Config
	for len(b) >= 4 {
		end := 4 + int(be.Uint16(b[2:]))
		if end > len(b) {
			p.wrong("page %02Xh says %d bytes and has %d", b[0], end, len(b))
			return
		}
		p.sesOne(b[:end], &config)
		b = b[end:]
	}
	if len(b) > 0 {
		p.wrong("%d bytes are left over", len(b))
	}
}

func (p *Page) sesOne(b []byte, config **enclosure.Config) {
	failed := func(err error) bool {
		if err != nil {
			p.wrong("page %02Xh: %v", b[0], err)
		}
		return err != nil
	}
	switch b[0] {
	case enclosure.SESSupported:
		var list []string
		for _, c := range b[4:] {
			list = append(list, fmt.Sprintf("%02Xh", c))
		}
		p.add("supported pages", list)
	case enclosure.SESConfig:
		c, err := enclosure.DecodeConfig(b)
		if failed(err) {
			return
		}
		*config = &c
		p.add("generation", uint64(c.Generation))
		p.add("enclosure logical identifier", c.LogicalID)
		p.add("vendor", c.Vendor)
		p.add("product", c.Product)
		p.add("revision", c.Revision)
		for i, k := range c.Kinds {
			p.add(
				fmt.Sprintf("kind %d", i),
				map[string]any{
					"type":         k.Type.String(),
					"elements":     k.Count,
					"subenclosure": k.Subenclosure,
					"text":         k.Text,
				},
			)
		}
	case enclosure.SESStatus:
		if len(b) >= 2 {
			p.add(
				"enclosure",
				flags(
					uint64(b[1]&0x1F),
					map[int]string{
						0: "unrecoverable",
						1: "critical",
						2: "non-critical",
						3: "information",
						4: "invalid operation",
					},
				),
			)
		}
		p.sesElements(b, *config)
	case enclosure.SESDescriptors:
		names, err := enclosure.DecodeDescriptors(b)
		if !failed(err) {
			p.add("element descriptors", names)
		}
	case enclosure.SESAdditional:
		ports, err := enclosure.DecodeAdditional(b)
		if failed(err) {
			return
		}
		for _, port := range ports {
			p.add(
				fmt.Sprintf("slot %d", port.Slot),
				map[string]any{"element index": port.Index, "SAS address": port.Address, "SATA": port.SATA},
			)
		}
	default:
		p.wrong("unknown diagnostic page %02Xh", b[0])
	}
}

// sesElements adds the status of each element from the status page.
func (p *Page) sesElements(b []byte, config *enclosure.Config) {
	if config == nil {
		// Without the configuration page the types of elements are unknown, but the first byte has the same meaning for
		// all types.
		for i := 8; i+4 <= len(b); i += 4 {
			p.add(
				fmt.Sprintf("element %d, counted with the overall ones", (i-8)/4),
				map[string]any{
					"status": enclosure.Condition(b[i] & 0xF).String(),
					"bytes":  fmt.Sprintf("%x", b[i:i+4]),
				},
			)
		}
		return
	}
	elements, err := enclosure.DecodeStatus(*config, b)
	if err != nil {
		p.wrong("page %02Xh: %v", b[0], err)
		return
	}
	for _, e := range elements {
		v := map[string]any{"status": e.Condition.String(), "bytes": fmt.Sprintf("%x", e.Raw)}
		if says := e.Says(); len(says) > 0 {
			v["says"] = says
		}
		if t, ok := e.Celsius(); ok {
			v["temperature °C"] = t
		}
		if r, ok := e.RPM(); ok {
			v["speed rpm"] = r
		}
		name := fmt.Sprintf("%s %d", e.Type, e.Index)
		if e.Index < 0 {
			name = e.Type.String() + ", overall"
		}
		p.add(name, v)
	}
}
