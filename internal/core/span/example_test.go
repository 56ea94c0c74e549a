package span_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/span"
)

func Example() {
	fmt.Println(span.Of(1.5), span.Text(95*time.Second), span.Text(100*time.Minute))
	// Output: 1.5s 1m35s 1h40m
}
