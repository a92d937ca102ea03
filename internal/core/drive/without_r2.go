//go:build without_r2

package drive

const keepsR2 = false
