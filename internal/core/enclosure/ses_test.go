package enclosure

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// config is laid out by hand from SES-3 6.1.2: two array slots, a temperature sensor, a fan.
var config = append(append([]byte{0x01, 0, 0, 61, 0, 0, 0, 7,
	0x11, 0, 3, 36, 0x50, 0x02, 0xAB, 0xE7, 0, 0, 0, 0x3F}, "TARNWICKSHELF 24        0107"...),
	0x17, 2, 0, 5, 0x04, 1, 0, 0, 0x03, 1, 0, 0, 's', 'l', 'o', 't', 's')

// status in the same order, an overall element before each kind's own (SES-3 6.1.4).
var status = []byte{0x02, 0x02, 0, 32, 0, 0, 0, 7,
	0, 0, 0, 0, 0x01, 0, 0x02, 0, 0x41, 0, 0, 0x60, // slot 0 lit, slot 1 expected to fail, fault sensed and requested
	0, 0, 0, 0, 0x01, 0, 58, 0, // 38 °C
	0, 0, 0, 0, 0x02, 0x01, 0x90, 0x47} // 4,000 rpm, failed

func TestSES(t *testing.T) {
	c, err := DecodeConfig(config)
	require.NoError(t, err)
	require.Equal(
		t,
		Config{Generation: 7, LogicalID: "5002abe70000003f", Vendor: "TARNWICK", Product: "SHELF 24", Revision: "0107",
			Kinds: []ElementKind{{ArraySlot, 2, 0, "slots"}, {TemperatureSensor, 1, 0, ""}, {Cooling, 1, 0, ""}}},
		c,
	)

	status := append([]byte(nil), status...)
	es, err := DecodeStatus(c, status)
	require.NoError(t, err)
	require.Len(t, es, 7)
	require.True(t, es[1].Locate())
	require.False(t, es[1].Fault())
	require.Equal(t, 0, es[1].Index)
	require.Equal(t, -1, es[0].Index, "an overall element stands before its kind's own")
	require.True(t, es[2].Fault())
	require.Equal(t, []string{"predicted failure", "fault sensed", "fault requested"}, es[2].Says())
	celsius, ok := es[4].Celsius()
	require.True(t, ok)
	require.Equal(t, 38, celsius)
	rpm, ok := es[6].RPM()
	require.True(t, ok)
	require.Equal(t, 4000, rpm)
	require.Equal(t, "critical", es[6].Condition.String())
	require.Equal(t, []string{"failed"}, es[6].Says())

	// SES-3 6.1.3: the light of slot 1 is requested, its fault request stays, nothing else is selected.
	control, err := EncodeLocate(status, c, 0, 1, true)
	require.NoError(t, err)
	require.Equal(
		t,
		[]byte{
			0x02,
			0,
			0,
			32,
			0,
			0,
			0,
			7,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0xC0,
			0,
			0x02,
			0x20,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
			0,
		},
		control,
	)
	_, err = EncodeLocate(status, c, 2, 0, true)
	require.ErrorContains(t, err, "not a slot")
	_, err = EncodeLocate(status, c, 0, 9, true)
	require.ErrorContains(t, err, "no element 9")

	status[7] = 8
	_, err = DecodeStatus(c, status)
	require.ErrorContains(t, err, "read both again")
	_, err = DecodeConfig(config[:30])
	require.ErrorContains(t, err, "says 65 bytes")

	names, err := DecodeDescriptors([]byte{0x07, 0, 0, 15, 0, 0, 0, 7, 0, 0, 0, 0, 0, 0, 0, 3, 'B', '0', '1'})
	require.NoError(t, err)
	require.Equal(t, []string{"", "B01"}, names)

	// SES-3 6.1.13: SAS, indexed; slot 5 has a SATA drive behind its one phy, slot 6 none.
	phy := func(flags byte, address ...byte) []byte {
		b := make([]byte, 28)
		b[3] = flags
		copy(b[12:], address)
		return b
	}
	page := append(
		[]byte{0x0A, 0, 0, 76, 0, 0, 0, 7, 0x16, 34, 0, 4, 1, 0, 0, 5},
		phy(1, 0x50, 2, 0xAB, 0xE7, 0, 0, 0x12, 0x34)...)
	page = append(append(page, 0x16, 34, 0, 5, 1, 0, 0, 6), phy(0)...)
	ports, err := DecodeAdditional(page)
	require.NoError(t, err)
	require.Equal(t, []Port{{4, 5, "5002abe700001234", true}, {5, 6, "", false}}, ports)
	page[9] = 30
	_, err = DecodeAdditional(page)
	require.Error(t, err)
	require.Equal(t, []byte{0x1C, 1, 0x0A, 0x10, 0, 0}, ReceiveDiagnostic(SESAdditional, 4096))
}

// FuzzSES: whatever an enclosure sends, it is taken apart or refused; a control page never selects more than one
// element.
func FuzzSES(f *testing.F) {
	f.Add(config, status)
	f.Fuzz(func(t *testing.T, config, status []byte) {
		_, _ = DecodeDescriptors(status)
		_, _ = DecodeAdditional(status)
		c, err := DecodeConfig(config)
		if err != nil {
			return
		}
		es, err := DecodeStatus(c, status)
		if err != nil {
			return
		}
		for _, e := range es {
			_, _ = e.Says(), e.Condition.String()
			control, err := EncodeLocate(status, c, e.Kind, e.Index, true)
			if err != nil {
				continue
			}
			selected := 0
			for i := 8; i < len(control); i += 4 {
				if control[i]&0x80 != 0 {
					selected++
				}
			}
			require.Equal(t, 1, selected)
		}
	})
}

// TestBox: the pages of one enclosure together: the slots, their contents, and the states of the parts.
func TestBox(t *testing.T) {
	names := []byte{0x07, 0, 0, 0, 0, 0, 0, 7}
	for _, n := range []string{"", "bay A", "bay B", "", "inlet", "", "rear"} {
		names = append(append(names, 0, 0, 0, byte(len(n))), n...)
	}
	names[3] = byte(len(names) - 4)
	slot := func(index, number byte, address ...byte) []byte {
		b := make([]byte, 36)
		b[0], b[1], b[3], b[4], b[7] = 0x16, 34, index, 1, number
		copy(b[20:], address)
		return b
	}
	ports := append(
		append([]byte{0x0A, 0, 0, 76, 0, 0, 0, 7}, slot(0, 0, 0x50, 2, 0xAB, 0xE7, 0, 0, 0x12, 0x34)...),
		slot(1, 1)...)
	status := append([]byte(nil), status...)
	status[16] = 0x05 // slot 1 is empty
	b, err := ReadBox(config, status, names, ports)
	require.NoError(t, err)
	require.Equal(
		t,
		[]Slot{
			{Number: 1, Name: "bay A", Address: "5002abe700001234", Condition: 1, Ident: true},
			{Number: 2, Name: "bay B", Index: 1, Condition: 5, Fault: true},
		},
		b.Slots,
		"counted from one, as people do",
	)
	require.True(t, b.Slots[0].Occupied())
	require.False(t, b.Slots[1].Occupied())
	require.Equal(
		t,
		[]Part{
			{Type: TemperatureSensor, Name: "inlet", Condition: 1, Celsius: 38, Told: true},
			{Type: Cooling, Name: "rear", Condition: 2, Fault: true},
		},
		[]Part{
			b.Parts[0],
			{Type: b.Parts[1].Type, Name: b.Parts[1].Name, Condition: b.Parts[1].Condition, Fault: b.Parts[1].Fault},
		},
	)
	says, grave := b.Parts[1].Ill()
	require.Equal(t, "cooling rear is critical", says)
	require.True(t, grave)
	says, _ = b.Parts[0].Ill()
	require.Empty(t, says)

	control, err := b.Locate(2, true)
	require.NoError(t, err)
	require.Equal(t, byte(0x80), control[16]&0x80, "slot 2 alone is selected")
	require.Zero(t, control[12]&0x80)
	_, err = b.Locate(9, true)
	require.ErrorContains(t, err, "no slot 9")
	require.Equal(t, []byte{0x1D, 0x10, 0, 0, 36, 0}, SendDiagnostic(36))

	bare, err := ReadBox(config, status, nil, nil)
	require.NoError(t, err)
	require.Equal(t, 2, bare.Slots[1].Number, "without the other pages, slots count from one")
	status[7] = 9
	_, err = ReadBox(config, status, nil, nil)
	require.ErrorContains(t, err, "status: ")
	_, err = ReadBox(nil, nil, nil, nil)
	require.ErrorContains(t, err, "configuration: ")
}
