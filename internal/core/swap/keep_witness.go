//go:build !without_witness

package swap

// keepsWitness: two sources that differ stop the swap. The proof is also run without this, to show that it then fails.
const keepsWitness = true
