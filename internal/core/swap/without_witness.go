//go:build without_witness

package swap

const keepsWitness = false
