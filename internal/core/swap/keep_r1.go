//go:build !without_r1

package swap

// keepsR1: nothing is pulled that data hang on. The proof is run without it as well, to see that it would notice.
const keepsR1 = true
