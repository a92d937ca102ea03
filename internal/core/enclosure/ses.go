package enclosure

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// SCSI Enclosure Services (SES-3, INCITS 518): the state of an enclosure's parts. Diagnostic pages are read with
// RECEIVE DIAGNOSTIC RESULTS and written with SEND DIAGNOSTIC (SPC-5 6.27, 6.42).

// The diagnostic pages that are read (SES-3 table 13).
const (
	SESSupported   byte = 0x00
	SESConfig      byte = 0x01
	SESStatus      byte = 0x02
	SESDescriptors byte = 0x07
	SESAdditional  byte = 0x0A
)

// ElementType is the type of a part (SES-3 table 71).
type ElementType byte

// The types that are used here.
const (
	DeviceSlot        ElementType = 0x01
	PowerSupply       ElementType = 0x02
	Cooling           ElementType = 0x03
	TemperatureSensor ElementType = 0x04
	VoltageSensor     ElementType = 0x12
	CurrentSensor     ElementType = 0x13
	ArraySlot         ElementType = 0x17
)

var elementTypes = map[ElementType]string{
	DeviceSlot:        "device slot",
	PowerSupply:       "power supply",
	Cooling:           "cooling",
	TemperatureSensor: "temperature sensor",
	0x05:              "door",
	0x06:              "audible alarm",
	0x07:              "enclosure services controller electronics",
	0x08:              "SCC controller electronics",
	0x09:              "nonvolatile cache",
	0x0B:              "uninterruptible power supply",
	0x0C:              "display",
	0x0D:              "key pad entry",
	0x0E:              "enclosure",
	0x0F:              "SCSI port/transceiver",
	0x10:              "language",
	0x11:              "communication port",
	VoltageSensor:     "voltage sensor",
	CurrentSensor:     "current sensor",
	0x14:              "SCSI target port",
	0x15:              "SCSI initiator port",
	0x16:              "simple subenclosure",
	ArraySlot:         "array device slot",
	0x18:              "SAS expander",
	0x19:              "SAS connector",
}

func (t ElementType) String() string {
	if s := elementTypes[t]; s != "" {
		return s
	}
	return fmt.Sprintf("element type %02Xh", byte(t))
}

// ElementKind is one type descriptor of the configuration: a number of elements of one type.
type ElementKind struct {
	Type         ElementType
	Count        int
	Subenclosure int
	Text         string
}

// Config is the configuration page (SES-3 6.1.2): the order of elements in all other pages.
type Config struct {
	Generation uint32
	// LogicalID is the primary enclosure's identifier, as hexadecimal.
	LogicalID                 string
	Vendor, Product, Revision string
	Kinds                     []ElementKind
}

// Condition is an element's status code (SES-3 table 72).
type Condition byte

var conditions = []string{
	"unsupported",
	"ok",
	"critical",
	"non-critical",
	"unrecoverable",
	"not installed",
	"unknown",
	"not available",
	"no access allowed",
}

func (c Condition) String() string {
	if int(c) < len(conditions) {
		return conditions[c]
	}
	return fmt.Sprintf("reserved %Xh", byte(c))
}

// ConditionOK and ConditionNotInstalled are the two that need no action.
const (
	ConditionOK           Condition = 1
	ConditionNotInstalled Condition = 5
)

// Element is one part's status (SES-3 7.2, 7.3). Overall elements, one for each type, have Index -1.
type Element struct {
	Kind, Index    int
	Type           ElementType
	Condition      Condition
	PredictFailure bool
	Raw            [4]byte
}

// Locate reports whether the light of a slot, fan or supply is requested.
func (e Element) Locate() bool {
	if e.Type == DeviceSlot || e.Type == ArraySlot {
		return e.Raw[2]&0x02 != 0
	}
	return e.Raw[1]&0x80 != 0
}

// Fault reports whether a slot has a sensed or requested fault, or another part reports a failure.
func (e Element) Fault() bool {
	if e.Type == DeviceSlot || e.Type == ArraySlot {
		return e.Raw[3]&0x60 != 0
	}
	return (e.Type == PowerSupply || e.Type == Cooling) && e.Raw[3]&0x40 != 0
}

// Celsius is what a temperature sensor reads (SES-3 7.3.6: an offset of 20, zero meaning nothing).
func (e Element) Celsius() (int, bool) {
	return int(e.Raw[2]) - 20, e.Type == TemperatureSensor && e.Raw[2] != 0
}

// RPM is how fast a fan turns (SES-3 7.3.5: eleven bits, in tens).
func (e Element) RPM() (int, bool) {
	return 10 * (int(e.Raw[1]&7)<<8 | int(e.Raw[2])), e.Type == Cooling
}

// Says is what an element's own bits mean, in the standard's words.
func (e Element) Says() (out []string) {
	bit := func(at int, mask byte, what string) {
		if e.Raw[at]&mask != 0 {
			out = append(out, what)
		}
	}
	if e.PredictFailure {
		out = append(out, "predicted failure")
	}
	bit(0, 0x20, "disabled")
	bit(0, 0x10, "swapped since")
	switch e.Type {
	case DeviceSlot, ArraySlot:
		bit(2, 0x02, "ident")
		bit(2, 0x40, "do not remove")
		bit(2, 0x08, "ready to insert")
		bit(2, 0x04, "ready to remove")
		bit(3, 0x40, "fault sensed")
		bit(3, 0x20, "fault requested")
		bit(3, 0x10, "device off")
	case PowerSupply:
		bit(1, 0x80, "ident")
		bit(2, 0x08, "DC over-voltage")
		bit(2, 0x04, "DC under-voltage")
		bit(2, 0x02, "DC over-current")
		bit(3, 0x40, "failed")
		bit(3, 0x10, "off")
		bit(3, 0x08, "over-temperature failure")
		bit(3, 0x04, "temperature warning")
		bit(3, 0x02, "AC failure")
		bit(3, 0x01, "DC failure")
	case Cooling:
		bit(1, 0x80, "ident")
		bit(3, 0x40, "failed")
		bit(3, 0x10, "off")
	case TemperatureSensor:
		bit(1, 0x80, "ident")
		bit(3, 0x08, "over-temperature failure")
		bit(3, 0x04, "over-temperature warning")
		bit(3, 0x02, "under-temperature failure")
		bit(3, 0x01, "under-temperature warning")
	}
	return out
}

// Port is the additional element status of one slot (SES-3 6.1.13): its number, and the SAS address of the drive in it.
type Port struct {
	// Index counts elements over all types, without overall elements; -1 when not reported.
	Index   int
	Slot    int
	Address string // hexadecimal; empty when no device is attached
	SATA    bool
}

// sesPage checks the header of a page and gives what follows its generation code.
func sesPage(b []byte, code byte) (generation uint32, body []byte, err error) {
	if len(b) < 8 {
		return 0, nil, fmt.Errorf("%d bytes are too few for a diagnostic page with a generation code", len(b))
	}
	if b[0] != code {
		return 0, nil, fmt.Errorf("it is page %02Xh, not %02Xh", b[0], code)
	}
	end := 4 + int(binary.BigEndian.Uint16(b[2:]))
	if end < 8 || end > len(b) {
		return 0, nil, fmt.Errorf("it says %d bytes and has %d", end, len(b))
	}
	return binary.BigEndian.Uint32(b[4:]), b[8:end], nil
}

// DecodeConfig reads the configuration page, 01h.
func DecodeConfig(b []byte) (c Config, err error) {
	gen, body, err := sesPage(b, SESConfig)
	if err != nil {
		return c, err
	}
	c.Generation = gen
	headers := 0
	for n := 0; n <= int(b[1]); n++ {
		if len(body) < 40 || len(body) < 4+int(body[3]) {
			return c, fmt.Errorf("enclosure descriptor %d is cut off", n)
		}
		if n == 0 {
			c.LogicalID = fmt.Sprintf("%x", body[4:12])
			c.Vendor, c.Product, c.Revision = ascii(body[12:20]), ascii(body[20:36]), ascii(body[36:40])
		}
		headers += int(body[2])
		body = body[4+int(body[3]):]
	}
	if len(body) < 4*headers {
		return c, fmt.Errorf("%d type descriptors are announced and %d bytes are left", headers, len(body))
	}
	texts := body[4*headers:]
	for n := range headers {
		h := body[4*n:]
		k := ElementKind{Type: ElementType(h[0]), Count: int(h[1]), Subenclosure: int(h[2])}
		if size := int(h[3]); size <= len(texts) {
			k.Text, texts = ascii(texts[:size]), texts[size:]
		} else {
			return c, fmt.Errorf("the text of type descriptor %d is cut off", n)
		}
		c.Kinds = append(c.Kinds, k)
	}
	return c, nil
}

// DecodeStatus reads the enclosure status page, 02h, in the order that the configuration gives. A page of another
// generation belongs to another configuration and is refused.
func DecodeStatus(c Config, b []byte) (out []Element, err error) {
	gen, body, err := sesPage(b, SESStatus)
	if err != nil {
		return nil, err
	}
	if gen != c.Generation {
		return nil, fmt.Errorf("it is of generation %d, the configuration of %d: read both again", gen, c.Generation)
	}
	for k, kind := range c.Kinds {
		for i := -1; i < kind.Count; i++ {
			if len(body) < 4 {
				return out, fmt.Errorf("element %d of kind %d (%s) is cut off", i, k, kind.Type)
			}
			e := Element{
				Kind:           k,
				Index:          i,
				Type:           kind.Type,
				Condition:      Condition(body[0] & 0xF),
				PredictFailure: body[0]&0x40 != 0,
			}
			copy(e.Raw[:], body)
			out = append(out, e)
			body = body[4:]
		}
	}
	return out, nil
}

// DecodeDescriptors reads the element descriptor page, 07h: the names printed for elements, in the order of the status
// page, overall elements included.
func DecodeDescriptors(b []byte) (names []string, err error) {
	_, body, err := sesPage(b, SESDescriptors)
	if err != nil {
		return nil, err
	}
	for len(body) > 0 {
		if len(body) < 4 || len(body) < 4+int(binary.BigEndian.Uint16(body[2:])) {
			return names, fmt.Errorf("descriptor %d is cut off", len(names))
		}
		end := 4 + int(binary.BigEndian.Uint16(body[2:]))
		names = append(names, ascii(body[4:end]))
		body = body[end:]
	}
	return names, nil
}

// DecodeAdditional reads the additional element status page, 0Ah; of its descriptors those of SAS device slots.
func DecodeAdditional(b []byte) (ports []Port, err error) {
	const protocolSAS = 6
	_, body, err := sesPage(b, SESAdditional)
	if err != nil {
		return nil, err
	}
	for n := 0; len(body) > 0; n++ {
		if len(body) < 2 || len(body) < 2+int(body[1]) {
			return ports, fmt.Errorf("descriptor %d is cut off", n)
		}
		d := body[:2+int(body[1])]
		body = body[len(d):]
		invalid, indexed := d[0]&0x80 != 0, d[0]&0x10 != 0
		if invalid || d[0]&0xF != protocolSAS {
			continue
		}
		p := Port{Index: -1}
		info := d[2:]
		if indexed {
			if len(info) < 2 {
				return ports, fmt.Errorf("descriptor %d has no element index", n)
			}
			p.Index, info = int(info[1]), info[2:]
		}
		// SES-3 tables 44 and 45: phys, descriptor type 00b for slots, and with an index the slot's number.
		if len(info) < 2 || info[1]>>6 != 0 {
			continue
		}
		phys := info[2:]
		if indexed {
			if len(info) < 4 {
				return ports, fmt.Errorf("descriptor %d has no slot number", n)
			}
			p.Slot, phys = int(info[3]), info[4:]
		}
		const phySize = 28
		for range int(info[0]) {
			if len(phys) < phySize {
				return ports, fmt.Errorf("a phy of descriptor %d is cut off", n)
			}
			if a := fmt.Sprintf("%x", phys[12:20]); strings.Trim(a, "0") != "" && p.Address == "" {
				p.Address, p.SATA = a, phys[3]&1 != 0
			}
			phys = phys[phySize:]
		}
		ports = append(ports, p)
	}
	return ports, nil
}

// ReceiveDiagnostic requests a diagnostic page (SPC-5 6.27).
func ReceiveDiagnostic(page byte, length uint16) []byte {
	b := []byte{0x1C, 1, page, 0, 0, 0}
	binary.BigEndian.PutUint16(b[3:], length)
	return b
}

// EncodeLocate makes the enclosure control page, 02h, that switches the ident light of one slot. SELECT is set for that
// element only, so all others stay as they are (SES-3 6.1.3). The page is made from the status page and keeps earlier
// requests.
func EncodeLocate(status []byte, c Config, kind, index int, on bool) ([]byte, error) {
	elements, err := DecodeStatus(c, status)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 8+4*len(elements))
	out[0] = SESStatus
	binary.BigEndian.PutUint16(out[2:], uint16(len(out)-4))
	binary.BigEndian.PutUint32(out[4:], c.Generation)
	for i, e := range elements {
		if e.Kind != kind || e.Index != index {
			continue
		}
		if e.Type != DeviceSlot && e.Type != ArraySlot {
			return nil, fmt.Errorf("element %d of kind %d is a %s, not a slot", index, kind, e.Type)
		}
		control := out[8+4*i:]
		control[0] = 0x80 | e.Raw[0]&0x60 // select; predicted failure and disabled stay
		control[2] = e.Raw[2] & 0x4C      // do not remove, ready to insert and to remove stay
		control[3] = e.Raw[3] & 0x30      // fault requested and device off stay
		if e.Type == ArraySlot {
			control[1] = e.Raw[1]
		}
		if on {
			control[2] |= 0x02
		}
		return out, nil
	}
	return nil, fmt.Errorf("no element %d of kind %d", index, kind)
}

func ascii(b []byte) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		switch {
		case r == 0:
			return ' '
		case r < 0x20 || r > 0x7E:
			return '?'
		}
		return r
	}, string(b)))
}
