package machine

import "os"

// usualPorts is how many there are by Linux's defaults.
const usualPorts = 28232

// Ports is how many connections one address of this machine can have to one port of another: as many as there are local
// ports that the system picks (ip(7), ip_local_port_range).
func Ports() int {
	if n := (settings{os.DirFS("/")}).localPorts(); n > 0 {
		return n
	}
	return usualPorts
}

// localPorts is likewise; 0 if it is not known.
func (s settings) localPorts() int {
	const file = "proc/sys/net/ipv4/ip_local_port_range"
	first, last := s.number(file, 0), s.number(file, 1)
	if first < 0 || last < first {
		return 0
	}
	return int(last-first) + 1
}

// SpareFiles are the files that a process needs beyond its clients'.
const SpareFiles = 64

// Processes is how many processes it takes for so many sockets, if each may have so many files open.
func Processes(sockets, files int) int {
	each := files - SpareFiles
	return (sockets + each - 1) / each
}
