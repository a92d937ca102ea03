package drive

import "fmt"

// PageSize is the length of every ATA data page used here, in bytes.
const PageSize = 512

// PageKind names a page by the term of the standard, as `lantern decode` does.
type PageKind string

// The pages that are decoded.
const (
	PageIdentify        PageKind = "ata-identify"
	PageSmartData       PageKind = "ata-smart-data"
	PageSmartThresholds PageKind = "ata-smart-thresholds"
	PageSelfTestLog     PageKind = "ata-selftest-log"
	PageSelective       PageKind = "ata-selective-selftest-log"
)

// Unreadable is a page that was received but is not valid. Its bytes are kept, so that the fault can be studied and
// reported.
type Unreadable struct {
	Kind  PageKind `json:"kind"`
	Why   string   `json:"why"`
	Bytes []byte   `json:"bytes"`
}

func (u *Unreadable) Error() string { return fmt.Sprintf("%s is unreadable: %s", u.Kind, u.Why) }

func unreadable(kind PageKind, page []byte, format string, args ...any) *Unreadable {
	return &Unreadable{Kind: kind, Why: fmt.Sprintf(format, args...), Bytes: append([]byte(nil), page...)}
}

// checkPage holds for every ATA page whose last byte is a checksum: all 512 bytes add up to zero in modulo 256.
func checkPage(kind PageKind, page []byte) error {
	if len(page) != PageSize {
		return unreadable(kind, page, "%d bytes came, %d were due", len(page), PageSize)
	}
	if why := Blank(page); why != "" {
		return unreadable(kind, page, "%s", why)
	}
	if s := sum(page); s != 0 {
		return unreadable(kind, page, "checksum is wrong: the bytes add up to %02Xh instead of 00h", s)
	}
	return nil
}

// Blank reports whether all bytes of a page are equal, as when no device answered: its checksum may be right, but it
// carries no data.
func Blank(page []byte) string {
	for _, b := range page {
		if b != page[0] || b != 0 && b != 0xFF {
			return ""
		}
	}
	if len(page) == 0 {
		return ""
	}
	return fmt.Sprintf("every byte is %02Xh: nothing was answered", page[0])
}

func sum(page []byte) (s byte) {
	for _, b := range page {
		s += b
	}
	return s
}

// seal sets the checksum byte at the end of a page.
func seal(page []byte) {
	page[PageSize-1] = 0
	page[PageSize-1] = -sum(page)
}
