package wire

import "fmt"

// A Lack is what a machine, or a process, may run out of.
type Lack uint8

// What connections need.
const (
	NoPort   Lack = iota // a local port towards the server
	NoFile               // a file of the process, or of the system
	NoMemory             // memory for sockets
)

func (l Lack) String() string {
	return [...]string{"no local port is free", "no file is left to open", "there is no memory left for sockets"}[l]
}

// A Shortage is why a connection could not even be tried: nothing that the other
// side did.
type Shortage struct {
	Lack Lack
	Err  error
}

func (e *Shortage) Error() string { return fmt.Sprintf("%v (%v)", e.Lack, e.Err) }

// Unwrap gives the system's error.
func (e *Shortage) Unwrap() error { return e.Err }
