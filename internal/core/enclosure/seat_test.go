package enclosure

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func seatJSON(changes map[string]any) []byte {
	doc := map[string]any{
		"@odata.id": "/redfish/v1/Systems/1/Storage/A/Drives/3", "SerialNumber": " VR7ZU006 ", "CapacityBytes": 4000787030016,
		"LocationIndicatorActive": false, "Status": map[string]any{"State": "Enabled", "Health": "OK"},
		"PhysicalLocation": map[string]any{"PartLocation": map[string]any{"LocationOrdinalValue": 3, "LocationType": "Bay",
			"ServiceLabel": "Bay 3"}},
		"Identifiers": []any{map[string]any{"DurableName": "50:00:C5:00:0A:0B:0C:0D", "DurableNameFormat": "NAA"}},
		"Links":       map[string]any{"Chassis": map[string]any{"@odata.id": "/redfish/v1/Chassis/Self"}},
	}
	for k, v := range changes {
		if doc[k] = v; v == nil {
			delete(doc, k)
		}
	}
	b, _ := json.Marshal(doc)
	return b
}

// TestSeat: the bay in a Drive resource, with optional and older fields; a link to another address than the
// controller's is refused.
func TestSeat(t *testing.T) {
	whole := Seat{
		URI: "/redfish/v1/Systems/1/Storage/A/Drives/3", Chassis: "/redfish/v1/Chassis/Self", Serial: "VR7ZU006",
		WWN: "5000c5000a0b0c0d", Bytes: 4000787030016, Number: 3, Label: "Bay 3", Light: LightActive,
	}
	for name, c := range map[string]struct {
		changes map[string]any
		want    func(*Seat)
	}{
		"whole":    {nil, func(*Seat) {}},
		"lit":      {map[string]any{"LocationIndicatorActive": true}, func(s *Seat) { s.Lit = true }},
		"no light": {map[string]any{"LocationIndicatorActive": nil}, func(s *Seat) { s.Light = "" }},
		"old light": {map[string]any{"LocationIndicatorActive": nil, "IndicatorLED": "Blinking"},
			func(s *Seat) { s.Light, s.Lit = LightOld, true }},
		"old place": {map[string]any{"PhysicalLocation": nil, "Location": []any{map[string]any{"Info": "Slot 12"}}},
			func(s *Seat) { s.Label, s.Number = "Slot 12", 12 }},
		"no place": {map[string]any{"PhysicalLocation": nil}, func(s *Seat) { s.Label, s.Number = "", -1 }},
		"half a bay": {map[string]any{"PhysicalLocation": map[string]any{
			"PartLocation": map[string]any{"LocationOrdinalValue": 2.5},
		}}, func(s *Seat) { s.Label, s.Number = "", -1 }},
		"empty": {map[string]any{"Status": map[string]any{"State": "Absent"}}, func(s *Seat) {
			s.Absent, s.Serial, s.WWN, s.Bytes = true, "", "", 0
		}},
		"another name": {map[string]any{"Identifiers": []any{map[string]any{"DurableName": "x",
			"DurableNameFormat": "NAA"}}}, func(s *Seat) { s.WWN = "" }},
		"a chassis away": {map[string]any{"Links": map[string]any{
			"Chassis": map[string]any{"@odata.id": "https://192.0.2.1/redfish/v1"},
		}}, func(s *Seat) { s.Chassis = "" }},
		"no size": {map[string]any{"CapacityBytes": nil}, func(s *Seat) { s.Bytes = 0 }},
		"a hostile label": {map[string]any{"SerialNumber": "A\x1b[31mB" + strings.Repeat("x", 100)},
			func(s *Seat) { s.Serial = "A[31mB" + strings.Repeat("x", 58) }},
	} {
		got, err := DecodeSeat(seatJSON(c.changes))
		require.NoError(t, err, name)
		want := whole
		c.want(&want)
		require.Equal(t, want, got, name)
	}
	for _, uri := range []string{"", "http://192.0.2.1/redfish/v1/x", "//192.0.2.1/redfish/", "/redfish/v1/../../x",
		"/etc",
		"/redfish/v1/a?b", "/redfish/v1/a b", "/redfish/" + strings.Repeat("x", 600)} {
		_, err := DecodeSeat(seatJSON(map[string]any{"@odata.id": uri}))
		require.Error(t, err, uri)
	}
	_, err := DecodeSeat([]byte(`{"@odata.id": 3}`))
	require.Error(t, err)
}

// TestSeats: whatever controllers report, sections are valid; a drive is only where its controller reports it; if two
// bays have one number, or two drives one serial, their places are unknown.
func TestSeats(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var seats []Seat
		for i := range rapid.IntRange(0, 20).Draw(t, "n") {
			seats = append(seats, Seat{
				URI: fmt.Sprint("/redfish/v1/D/", i), Chassis: rapid.SampledFrom([]string{"", "/redfish/v1/Chassis/1",
					"/redfish/v1/Chassis/1/",
					"/redfish/v1/Chassis/A_B", "/redfish/v1/Chassis/a.b"}).Draw(t, "chassis"),
				Serial: rapid.SampledFrom([]string{"", "S1", "S2", "S3", "S4"}).Draw(t, "serial"),
				WWN:    rapid.SampledFrom([]string{"", "5000000000000001", "5000000000000002"}).Draw(t, "wwn"),
				Number: rapid.IntRange(-1, 9).Draw(t, "number"), Label: rapid.SampledFrom([]string{"", "Bay 1"}).Draw(t, "label"),
				Bytes: rapid.SampledFrom([]uint64{0, 1000, 2000}).Draw(t, "bytes"),
			})
		}
		sections := SeatSections(seats)
		l := Layout{Name: "controller"}
		for _, s := range sections {
			l.Sections = append(l.Sections, s.Section)
			require.Len(t, s.Seats, s.Bays())
			for n, seat := range s.Seats {
				require.Contains(t, seats, seat)
				_, there := s.Place(n)
				require.True(t, there)
				for _, other := range seats {
					require.False(t, other.URI != seat.URI && other.Chassis == seat.Chassis && other.Number == seat.Number,
						"which is which")
				}
			}
		}
		if len(sections) > 0 && len(sections) <= mostSections {
			require.NoError(t, l.Check())
		}
		serial, wwn, bytes := rapid.SampledFrom([]string{"", "s1 ", "S9"}).Draw(t, "of"),
			rapid.SampledFrom([]string{"", "0x5000000000000001"}).Draw(t, "named"),
			rapid.SampledFrom([]uint64{0, 1005}).Draw(t, "with")
		section, bay, ok := SeatOf(sections, serial, wwn, bytes)
		fits := 0
		for _, s := range sections {
			for n, seat := range s.Seats {
				short := strings.TrimPrefix(wwn, "0x")
				is := short != "" && seat.WWN == short ||
					serial == "s1 " && seat.Serial == "S1" && (short == "" || seat.WWN == "" || seat.WWN == short)
				if is {
					fits++
				}
				if ok && s.Name == section && n == bay {
					require.True(t, is)
					require.True(t, bytes == 0 || seat.Bytes != 2000, "of another size")
				}
			}
		}
		require.False(t, ok && fits != 1, "only one that is it")
	})
}

func FuzzSeat(f *testing.F) {
	f.Add(seatJSON(nil))
	f.Add(seatJSON(map[string]any{"IndicatorLED": "Lit", "LocationIndicatorActive": nil}))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := DecodeSeat(b)
		if err != nil {
			return
		}
		require.True(t, LocalURI(s.URI))
		require.LessOrEqual(t, s.Number, mostNumber)
		for _, one := range SeatSections([]Seat{s, {URI: "/redfish/v1/x", Chassis: s.Chassis, Number: 2}}) {
			require.NoError(t, one.Section.Check())
		}
	})
}
