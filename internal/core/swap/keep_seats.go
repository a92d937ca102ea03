//go:build !without_seats

package swap

// keepsSeats: every place of a drive counts, not only the first. The proof is run without it as well, to see that it
// would notice.
const keepsSeats = true
