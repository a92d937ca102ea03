package agent

import (
	"context"
	"fmt"
	"math"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/wire"
)

// BoxFound is an enclosure that speaks SES: a device of its own on the bus.
type BoxFound struct {
	ID        string // constant for one enclosure
	Transport Transport
	// Layout is its layout where the machine knows it, else nil: the pages do not contain it.
	Layout *enclosure.Layout
}

// sesLength is room for every diagnostic page that is read.
const sesLength = 16 << 10

// readBox reads the pages of an enclosure.
func readBox(ctx context.Context, t Transport) (enclosure.Box, error) {
	page := func(code byte) []byte {
		ctx, cancel := context.WithTimeout(ctx, commandLimit)
		defer cancel()
		in := make([]byte, sesLength)
		if _, err := t.Execute(ctx, enclosure.ReceiveDiagnostic(code, sesLength), in); err != nil {
			return nil
		}
		return in
	}
	return enclosure.ReadBox(
		page(enclosure.SESConfig),
		page(enclosure.SESStatus),
		page(enclosure.SESDescriptors),
		page(enclosure.SESAdditional),
	)
}

// box is the state of an enclosure when it was last read.
type box struct {
	BoxFound
	enclosure.Box
	layout enclosure.Layout
	plain  bool // its layout is not known
	at     time.Time
}

// boxEach is how long an enclosure's answer is valid.
const boxEach = 3 * time.Second

// lookAtBoxes reads the enclosures with SES. One that does not answer keeps its bays for the moment: its drives have
// not moved.
func (a *Agent) lookAtBoxes(ctx context.Context) (out []*box) {
	found, err := a.Machine.Boxes(ctx)
	if err != nil {
		a.Log.Warn("enclosures cannot be listed", "host", a.Host, "error", err)
	}
	fresh := map[string]*box{}
	for _, f := range found {
		was := a.boxes[f.ID]
		if was != nil && time.Since(was.at) < boxEach && !a.boxesAgain.Load() {
			fresh[f.ID] = was
			out = append(out, was)
			continue
		}
		read, err := readBox(ctx, f.Transport)
		if err != nil {
			a.Log.Warn("an enclosure cannot be read", "host", a.Host, "enclosure", f.ID, "error", err)
			if was == nil {
				continue
			}
			read = was.Box
		}
		b := &box{BoxFound: f, Box: read, at: time.Now()}
		if f.Layout != nil {
			b.layout = *f.Layout
		} else {
			b.layout, b.plain = plainLayout(f.ID, read), true
		}
		fresh[f.ID] = b
		out = append(out, b)
	}
	a.boxesAgain.Store(false)
	a.boxes = fresh
	return out
}

// plainLayout arranges slots in rows of twelve, since their arrangement is not reported.
func plainLayout(id string, b enclosure.Box) enclosure.Layout {
	const wide = 12
	s := enclosure.Section{
		Name:    id,
		First:   enclosure.TopLeft,
		Run:     enclosure.AlongRows,
		Columns: min(wide, len(b.Slots)),
		Named:   map[int][2]int{},
		Names:   map[int]string{},
	}
	s.Rows = int(math.Ceil(float64(len(b.Slots)) / wide))
	for i, slot := range b.Slots {
		s.Named[slot.Number] = [2]int{i/wide + 1, i%wide + 1}
		if slot.Name != "" {
			s.Names[slot.Number] = slot.Name
		}
	}
	return enclosure.Layout{Name: id, Sections: []enclosure.Section{s}}
}

// section is the section of the slots: all slots of an enclosure are in its first one.
func (b *box) section() string { return b.layout.Sections[0].Name }

// where finds the slot of a drive by the SAS address that the enclosure reports.
func (b *box) where(address string) (section string, bay int, ok bool) {
	for _, s := range b.Slots {
		if s.Address == address && address != "" {
			return b.section(), s.Number, true
		}
	}
	return "", 0, false
}

// report is the enclosure's part of a report.
func (b *box) report() api.EnclosureReport {
	lit := map[string][]int{}
	var occupied []int
	for _, s := range b.Slots {
		if s.Ident {
			lit[b.section()] = append(lit[b.section()], s.Number)
		}
		if s.Occupied() {
			occupied = append(occupied, s.Number)
		}
	}
	out := wire.Enclosure(b.layout, lit)
	out.Sections[0].Occupied, out.Sections[0].Plain = occupied, b.plain
	for _, p := range b.Parts {
		v := api.PartReport{
			Type:      p.Type.String(),
			Name:      p.Name,
			Condition: p.Condition.String(),
			Celsius:   float64(p.Celsius),
		}
		v.Says, v.Grave = p.Ill()
		out.Parts = append(out.Parts, v)
	}
	return out
}

// locate switches the light of a slot, and returns the state that the enclosure then reports. ok is false when no SES
// enclosure has the section.
func (a *Agent) locate(ctx context.Context, section string, number int, on bool) (lit, ok bool, err error) {
	found, err := a.Machine.Boxes(ctx)
	if err != nil {
		return false, false, nil
	}
	for _, f := range found {
		name := f.ID
		if f.Layout != nil {
			name = f.Layout.Sections[0].Name
		}
		if name != section {
			continue
		}
		b, err := readBox(ctx, f.Transport)
		if err != nil {
			return false, true, err
		}
		control, err := b.Locate(number, on)
		if err != nil {
			return false, true, err
		}
		ctx, cancel := context.WithTimeout(ctx, commandLimit)
		defer cancel()
		if _, err := f.Transport.Execute(ctx, enclosure.SendDiagnostic(uint16(len(control))), control); err != nil {
			return false, true, fmt.Errorf("the enclosure refused it: %w", err)
		}
		a.boxesAgain.Store(true)
		after, err := readBox(ctx, f.Transport)
		if err != nil {
			return false, true, err
		}
		s, _ := after.Slot(number)
		return s.Ident, true, nil
	}
	return false, false, nil
}
