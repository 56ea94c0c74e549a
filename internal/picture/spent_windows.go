package picture

import "time"

var began = time.Now()

// spent returns how long this process has run, which is no less than its processor time needs.
func spent() time.Duration { return time.Since(began) }
