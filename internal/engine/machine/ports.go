package machine

import (
	"fmt"
	"os"
)

// Ports is how many connections one address of this machine can have to one port of another: as many as there are local
// ports that the system picks (ip(7), ip_local_port_range).
func Ports() int {
	var first, last int
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range")
	if err != nil {
		return 28232
	}
	if _, err := fmt.Sscan(string(text), &first, &last); err != nil || last < first {
		return 28232 // Linux's default
	}
	return last - first + 1
}
