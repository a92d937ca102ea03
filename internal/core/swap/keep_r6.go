//go:build !without_r6

package swap

// keepsR6: done is what was observed. The proof is run without it as well, to see that it would notice.
const keepsR6 = true
