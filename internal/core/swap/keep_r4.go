//go:build !without_r4

package swap

// keepsR4: nothing that lowers the margin is asked for while a pool recovers. The proof is run without it as well, to
// see that it would notice.
const keepsR4 = true
