package recovery

// Thin leaves out samples of a recovery that has ended: of each of so many equal parts of its work the first and the
// last stay, and both sides of where it began anew or its work became another. So its course, its ends and every pause
// stay what they were to within one part. Nothing is added, and what is thinned already stays as it is.
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
