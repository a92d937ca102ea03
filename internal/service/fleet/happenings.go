package fleet

// TestHours are the power-on hours of a log entry. ATA logs write 16 bits of them; how often those ran over follows from
// how old the drive is now.
func TestHours(logged int, now float64) float64 {
	const wrap = 1 << 16
	h := float64(logged)
	for h+wrap <= now {
		h += wrap
	}
	return h
}
