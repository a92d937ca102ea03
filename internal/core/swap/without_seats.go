//go:build without_seats

package swap

const keepsSeats = false
