package enclosure

import (
	"fmt"
	"math"
	"slices"
)

// Box is the state of an enclosure with a management interface at one moment.
type Box struct {
	Config Config
	Slots  []Slot
	Parts  []Part
	Status []byte // the raw status page: the control page for a light is made from it
}

// Slot is one bay of it.
type Slot struct {
	Number      int    // number according to the enclosure; from one where it reports none
	Name        string // as printed on the case, where the enclosure reports it
	Address     string // SAS address of the drive in it, as hexadecimal
	Kind, Index int    // index of its element
	Condition   Condition
	Ident       bool
	Fault       bool
}

// Occupied reports whether a device is in the slot, according to the enclosure.
func (s Slot) Occupied() bool {
	return s.Condition != ConditionNotInstalled && s.Condition != 0 && s.Condition != 6
}

// Part is a fan, a power supply or a sensor.
type Part struct {
	Type      ElementType
	Name      string
	Condition Condition
	Fault     bool
	Celsius   int // of a temperature sensor; see Told
	Told      bool
}

// Ill describes the fault of a part; empty when it has none. grave is true for a fault that needs action now.
func (p Part) Ill() (says string, grave bool) {
	heat := ""
	if p.Type == TemperatureSensor && p.Told {
		heat = fmt.Sprintf(" at %d °C", p.Celsius)
	}
	switch {
	case p.Condition == 2 || p.Condition == 4 || p.Fault:
		return fmt.Sprintf(
			"%s %s is %s%s",
			p.Type,
			p.Name,
			map[bool]string{true: "failed", false: p.Condition.String()}[p.Fault && p.Condition == ConditionOK],
			heat,
		), true
	case p.Condition == 3:
		return fmt.Sprintf("%s %s is not as it should be (%s)%s", p.Type, p.Name, p.Condition, heat), false
	}
	return "", false
}

// parts are the types of elements that are watched.
var parts = map[ElementType]bool{
	PowerSupply:       true,
	Cooling:           true,
	TemperatureSensor: true,
	VoltageSensor:     true,
	CurrentSensor:     true,
}

// ReadBox combines the pages of an enclosure: configuration, status, and, if present, element descriptors and
// additional element status.
func ReadBox(config, status, descriptors, additional []byte) (b Box, err error) {
	if b.Config, err = DecodeConfig(config); err != nil {
		return b, fmt.Errorf("configuration: %w", err)
	}
	elements, err := DecodeStatus(b.Config, status)
	if err != nil {
		return b, fmt.Errorf("status: %w", err)
	}
	b.Status = status
	names, ports, err := named(descriptors, additional)
	if err != nil {
		return b, err
	}
	nth, unnumbered := -1, 0 // of all elements except overall elements
	for i, e := range elements {
		if e.Index < 0 {
			continue
		}
		nth++
		name := ""
		if i < len(names) {
			name = names[i]
		}
		switch {
		case e.Type == DeviceSlot || e.Type == ArraySlot:
			s := Slot{Name: name, Kind: e.Kind, Index: e.Index, Condition: e.Condition, Ident: e.Locate(), Fault: e.Fault()}
			p, ok := ports[nth]
			if ok {
				s.Number, s.Address = p.Slot, p.Address
			}
			if !ok || s.Number == math.MinInt {
				unnumbered++
				s.Number = unnumbered
			}
			b.Slots = append(b.Slots, s)
		case parts[e.Type] && e.Condition != ConditionNotInstalled && e.Condition != 0:
			p := Part{Type: e.Type, Name: name, Condition: e.Condition, Fault: e.Fault()}
			if p.Name == "" {
				p.Name = fmt.Sprint(e.Index + 1)
			}
			p.Celsius, p.Told = e.Celsius()
			b.Parts = append(b.Parts, p)
		}
	}
	// Some enclosures count slots from zero; people count from one.
	if slices.ContainsFunc(b.Slots, func(s Slot) bool { return s.Number == 0 }) {
		for i := range b.Slots {
			b.Slots[i].Number++
		}
	}
	return b, nil
}

// named decodes the names of elements, and the ports of slots by the index of their element; both are optional.
func named(descriptors, additional []byte) (names []string, ports map[int]Port, err error) {
	if len(descriptors) > 0 {
		if names, err = DecodeDescriptors(descriptors); err != nil {
			return nil, nil, fmt.Errorf("element descriptors: %w", err)
		}
	}
	ports = map[int]Port{}
	if len(additional) > 0 {
		all, err := DecodeAdditional(additional)
		if err != nil {
			return nil, nil, fmt.Errorf("additional element status: %w", err)
		}
		for _, p := range all {
			ports[p.Index] = p
		}
	}
	return names, ports, nil
}

// Slot finds a slot by its number.
func (b Box) Slot(number int) (Slot, bool) {
	for _, s := range b.Slots {
		if s.Number == number {
			return s, true
		}
	}
	return Slot{}, false
}

// Locate makes the control page that switches a slot's light.
func (b Box) Locate(number int, on bool) ([]byte, error) {
	s, ok := b.Slot(number)
	if !ok {
		return nil, fmt.Errorf("the enclosure has no slot %d", number)
	}
	return EncodeLocate(b.Status, b.Config, s.Kind, s.Index, on)
}

// SendDiagnostic sends a control page to an enclosure: PF is set because the parameters are a page (SPC-5 6.42).
func SendDiagnostic(length uint16) []byte {
	return []byte{0x1D, 0x10, 0, byte(length >> 8), byte(length), 0}
}
