//go:build !without_uses

package swap

// keepsUses: what else depends on a drive stops. The proof is run without it as well, to see that it would notice.
const keepsUses = true
