//go:build !without_witness

package swap

// keepsWitness: two accounts that differ stop.
const keepsWitness = true
