//go:build without_r6

package swap

const keepsR6 = false
