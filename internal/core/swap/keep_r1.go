//go:build !without_r1

package swap

// keepsR1: a drive whose removal loses data is never asked for (R1). The proof is run without it as well, to see that
// it would notice.
const keepsR1 = true
