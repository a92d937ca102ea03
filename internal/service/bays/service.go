package bays

import (
	"lantern/internal/api"
)

type Light struct{ api.Light }
