package recovery

// Thin removes samples of a recovery that has ended: the first and the last sample of each equal part of its work are
// kept, and the samples on both sides of a restart or of a change of its work. So its course, its ends and every pause
// are accurate to within one part. Nothing is added, and thinning again changes nothing.
func Thin(s []Sample, parts int) []Sample {
	if parts < 1 || len(s) <= 2*parts+2 {
		return s
	}
	part := func(x Sample) uint64 {
		if x.Todo == 0 {
			return 0
		}
		return uint64(float64(x.Done) / float64(x.Todo) * float64(parts))
	}
	breaks := func(a, b Sample) bool { return b.Done < a.Done || a.Todo != b.Todo }
	out := make([]Sample, 0, 2*parts+2)
	for i, x := range s {
		if i == 0 || i == len(s)-1 || part(s[i-1]) != part(x) || part(x) != part(s[i+1]) || breaks(s[i-1], x) ||
			breaks(x, s[i+1]) {
			out = append(out, x)
		}
	}
	return out
}
