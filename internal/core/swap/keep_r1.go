//go:build !without_r1

package swap

// keepsR1: a drive whose removal loses data is never asked for (R1). The proof is also run without this, to show that
// it then fails.
const keepsR1 = true
