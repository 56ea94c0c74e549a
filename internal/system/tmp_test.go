package system

import (
	"os"
	"time"
)

func patience() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("PATIENCE")); err == nil {
		return d
	}
	return 90 * time.Second
}
