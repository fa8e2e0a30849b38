package pressure

import (
	"bufio"
	"encoding/hex"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Listening finds the processes of this machine that serve at one of some addresses, as far
// as this one may look into them (proc(5): the sockets of another user's cannot be seen).
// A server of several processes that share a socket gives all of them. here is false if none
// of the addresses is one of this machine's.
func Listening(at []netip.AddrPort) (pids []int, here bool) {
	at = slices.DeleteFunc(slices.Clone(at), func(a netip.AddrPort) bool { return !onThisMachine(a.Addr()) })
	if len(at) == 0 {
		return nil, false
	}
	sockets := map[string]bool{}
	for _, table := range []string{"tcp", "tcp6", "udp", "udp6"} {
		socketsAt(table, at, sockets)
	}
	if len(sockets) == 0 {
		return nil, true
	}
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return nil, true
	}
	for _, p := range processes {
		if pid, err := strconv.Atoi(p.Name()); err == nil && holds(pid, sockets) {
			pids = append(pids, pid)
		}
	}
	return pids, true
}

// onThisMachine reports whether an address is one of this machine's.
func onThisMachine(a netip.Addr) bool {
	if a = a.Unmap(); a.IsLoopback() {
		return true
	}
	all, err := net.InterfaceAddrs()
	if err != nil {
		return false
	}
	return slices.ContainsFunc(all, func(own net.Addr) bool {
		n, ok := own.(*net.IPNet)
		if !ok {
			return false
		}
		b, ok := netip.AddrFromSlice(n.IP)
		return ok && b.Unmap() == a
	})
}

// States of sockets that something can be sent to without a connection, or that listen
// (Linux, include/net/tcp_states.h; proc(5) says the same of udp).
const (
	listens = "0A"
	unbound = "07"
)

// socketsAt adds the inodes of the sockets that serve at one of some addresses.
func socketsAt(table string, at []netip.AddrPort, into map[string]bool) {
	f, err := os.Open(filepath.Join("/proc/net", table))
	if err != nil {
		return
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		words := strings.Fields(lines.Text())
		if len(words) < 10 || words[3] != listens && words[3] != unbound {
			continue
		}
		own, ok := address(words[1])
		if ok && slices.ContainsFunc(at, func(a netip.AddrPort) bool {
			return a.Port() == own.Port() && (own.Addr().IsUnspecified() || own.Addr().Unmap() == a.Addr().Unmap())
		}) {
			into["socket:["+words[9]+"]"] = true
		}
	}
}

// address reads an address of /proc/net: groups of four bytes in the machine's order, here
// taken to be little-endian, and a port.
func address(s string) (a netip.AddrPort, ok bool) {
	host, port, _ := strings.Cut(s, ":")
	b, err := hex.DecodeString(host)
	n, err2 := strconv.ParseUint(port, 16, 16)
	if err != nil || err2 != nil || len(b)%4 != 0 {
		return a, false
	}
	for i := 0; i < len(b); i += 4 {
		slices.Reverse(b[i : i+4])
	}
	ip, ok := netip.AddrFromSlice(b)
	return netip.AddrPortFrom(ip, uint16(n)), ok
}

// holds reports whether a process has one of some sockets open.
func holds(pid int, sockets map[string]bool) bool {
	dir := filepath.Join("/proc", strconv.Itoa(pid), "fd")
	files, err := os.ReadDir(dir)
	if err != nil {
		return false
	}
	for _, f := range files {
		if to, err := os.Readlink(filepath.Join(dir, f.Name())); err == nil && sockets[to] {
			return true
		}
	}
	return false
}
