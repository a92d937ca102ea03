//go:build !without_uses

package swap

// keepsUses: another use of the drive stops the swap. The proof is also run without this, to show that it then fails.
const keepsUses = true
