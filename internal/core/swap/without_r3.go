//go:build without_r3

package swap

const keepsR3 = false
