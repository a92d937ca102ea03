//go:build !without_r3

package swap

// keepsR3: nothing is written to before its label tail was typed. The proof is run without it as well, to see that it
// would notice.
const keepsR3 = true
