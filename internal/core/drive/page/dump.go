package page

import (
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

var (
	// offset begins a line of a dump: hexadecimal digits and a colon, or four or more digits and two blanks.
	offset = regexp.MustCompile(`^\s*(?:(?:0x)?[0-9a-fA-F]+:\s|[0-9a-fA-F]{4,}\s{2,})`)
	// printed is what some dumps add behind the bytes: the characters, after two blanks or a bar.
	printed = regexp.MustCompile(`(?:\s\||\s{2,}\S*[^0-9a-fA-F\s]).*$`)
)

// Bytes gives the bytes of a captured page: as they are when they are binary, or read from a hexadecimal dump, with or
// without offsets and printed characters. Lines that begin with # are left out.
func Bytes(in []byte) ([]byte, error) {
	if !utf8.Valid(in) || strings.ContainsFunc(string(in), func(r rune) bool { return r < 0x20 && r != '\n' && r != '\r' && r != '\t' }) {
		return in, nil
	}
	var out []byte
	for n, line := range strings.Split(string(in), "\n") {
		line = strings.TrimRight(line, "\r ")
		if strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		line = offset.ReplaceAllString(line, "")
		line = printed.ReplaceAllString(line, "")
		digits := strings.NewReplacer(" ", "", "\t", "", ",", "", "0x", "").Replace(line)
		b, err := hex.DecodeString(digits)
		if err != nil {
			return nil, fmt.Errorf("line %d is no hexadecimal dump: %q", n+1, line)
		}
		out = append(out, b...)
	}
	return out, nil
}
