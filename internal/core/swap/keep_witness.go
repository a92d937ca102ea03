//go:build !without_witness

package swap

// keepsWitness: two accounts that differ stop. The proof is run without it as well, to see that it would notice.
const keepsWitness = true
