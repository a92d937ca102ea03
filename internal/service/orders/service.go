package orders

import (
	"lantern/internal/api"
)

type Order struct {
	api.Order
	SwapID      string
	Nth         int
	LightID     string
	TestedDrive string // the drive whose self-test it starts or stops
}
