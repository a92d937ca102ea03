//go:build !without_seats

package swap

// keepsSeats: every place of a drive counts, not only the first. The proof is also run without this, to show that it
// then fails.
const keepsSeats = true
