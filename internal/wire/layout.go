package wire

import (
	"fmt"
	"strconv"

	"lantern/internal/api"
	"lantern/internal/core/partition"
	"lantern/internal/core/stack"
)

// PartitionTable to the API. GUIDs of the drive and its partitions stay where they are: another drive gets its own.
func PartitionTable(t partition.Table) api.PartitionTable {
	out := api.PartitionTable{
		Scheme:      api.PartitionTableScheme(t.Scheme),
		SectorBytes: t.Sector,
		Slots:       t.Slots,
		Parts:       []api.PartitionEntry{},
	}
	for _, e := range t.Parts {
		v := api.PartitionEntry{
			Number: e.Number,
			First:  int64(e.First),
			Last:   int64(e.Last),
			Name:   e.Name,
			Code:   int(e.Code),
			Active: e.Active,
		}
		if t.Scheme == partition.GPT {
			v.Type, v.Attributes = e.Type.String(), strconv.FormatUint(e.Attributes, 16)
		}
		out.Parts = append(out.Parts, v)
	}
	return out
}

// ToPartitionTable from the API. It fails when a GUID or a number is not one.
func ToPartitionTable(t api.PartitionTable) (partition.Table, error) {
	out := partition.Table{Scheme: partition.Scheme(t.Scheme), Sector: t.SectorBytes, Slots: t.Slots}
	if out.Scheme != partition.GPT && out.Scheme != partition.MBR || out.Sector < 512 || out.Sector > 1<<16 ||
		out.Slots > 1024 {
		return out, fmt.Errorf(
			"a partition table of the scheme %q with sectors of %d bytes is not known here",
			t.Scheme,
			t.SectorBytes,
		)
	}
	for _, v := range t.Parts {
		e := partition.Entry{
			Number: v.Number,
			First:  uint64(v.First),
			Last:   uint64(v.Last),
			Name:   v.Name,
			Code:   byte(v.Code),
			Active: v.Active,
		}
		if v.First < 0 || v.Last < v.First {
			return out, fmt.Errorf("partition %d reaches from block %d to %d", v.Number, v.First, v.Last)
		}
		if out.Scheme == partition.GPT {
			if err := e.Type.UnmarshalText([]byte(v.Type)); err != nil {
				return out, err
			}
			var err error
			if e.Attributes, err = strconv.ParseUint(v.Attributes, 16, 64); err != nil {
				return out, fmt.Errorf("the attributes of partition %d: %w", v.Number, err)
			}
		}
		out.Parts = append(out.Parts, e)
	}
	return out, nil
}

// LayerWords names a part of a drive: "partition 2", "an unlocked encrypted volume on partition 2".
func LayerWords(part int, layers []string) string {
	words := "the whole drive"
	if part > 0 {
		words = fmt.Sprintf("partition %d", part)
	}
	above := stack.LayerWords(layers)
	if above == "" {
		return words
	}
	return above + " on " + words
}
