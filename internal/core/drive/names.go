package drive

import "strings"

// StableNames are those that the usual rules of a Linux host (systemd's 60-persistent-storage.rules) give a drive below
// /dev/disk/by-id: bus is "ata", "scsi" or "nvme".
func (i Identity) StableNames(bus string) (out []string) {
	if model := underscored(i.Model); i.Serial != "" && model != "" {
		switch bus {
		case "ata":
			out = append(out, "ata-"+model+"_"+underscored(i.Serial))
		case "nvme":
			out = append(out, "nvme-"+model+"_"+underscored(i.Serial))
		}
	}
	if strings.Trim(i.WWN, "0") == "" {
		return out
	}
	switch {
	case bus == "nvme":
		out = append(out, "nvme-eui."+i.WWN)
	case bus == "scsi":
		out = append(out, "scsi-3"+i.WWN, "wwn-0x"+i.WWN) // 3 is the designator type, NAA
	default:
		out = append(out, "wwn-0x"+i.WWN)
	}
	return out
}

// underscored is how those rules make a name of what a device says: runs of spaces become one underscore, and so does
// each character that a name may not have.
func underscored(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9', r >= 'A' && r <= 'Z', r >= 'a' && r <= 'z', strings.ContainsRune("#+-.:=@_", r):
			return r
		}
		return '_'
	}, strings.Join(strings.Fields(s), "_"))
}
