//go:build !unix

package pressure

import "os"

// goesOn never tells anything on this system.
func goesOn() chan os.Signal { return make(chan os.Signal) }
