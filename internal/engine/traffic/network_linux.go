package traffic

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// A Network is a network namespace of the process's own (network_namespaces(7)).
type Network struct {
	// Up and Down are the devices over which what clients say leaves, and what they are told.
	Up, Down string
	// Host is the address of the rest of the machine; invalid if nothing is there but this process
	// and those that it starts.
	Host netip.Addr
	host int // the namespace of the rest, as an open file; 0: Down is in this one
}

// inside is the variable that tells a process that it is in a namespace of its own.
const inside = "TIDEPULL_NETWORK"

// The devices of a network that leads to the rest of the machine: a cable between the two.
const innerDevice = "tidepull"

// Own gives the namespace of its own that the process is in; false if it is in none.
func Own() (n Network, ok bool) {
	words := strings.Fields(os.Getenv(inside))
	switch len(words) {
	case 1:
		return Network{Up: "lo", Down: "lo"}, words[0] == "alone"
	case 3: // the number of the file, the address of the rest, and its device
		fd, err := strconv.Atoi(words[0])
		at, wrong := netip.ParseAddr(words[1])
		unix.CloseOnExec(fd) // a server that is started has no use for it
		return Network{Up: innerDevice, Down: words[2], Host: at, host: fd}, err == nil && wrong == nil
	}
	return n, false
}

// Enter begins this program anew in a network namespace of its own: it does not return if that
// goes well. With host it has a cable to the rest of the machine. It takes root's rights.
func Enter(host bool) error {
	if os.Geteuid() != 0 {
		return errors.New("faults by the kernel need root, for a network namespace of their own " +
			"(sudo tidepull run ...)")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		return errors.New("faults by the kernel need the commands ip and tc (of the package iproute2)")
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("this program: %w", err)
	}
	runtime.LockOSThread() // the namespace is the thread's, for good: a new program takes it over
	told := "alone"
	if host {
		told, err = cable()
	} else if err = unix.Unshare(unix.CLONE_NEWNET); err == nil {
		err = ip("link set lo up")
	}
	if err != nil {
		return fmt.Errorf("a network namespace of its own: %w", err)
	}
	return fmt.Errorf("%s: %w", self, syscall.Exec(self, os.Args, append(os.Environ(), inside+"="+told)))
}

// cable has the thread in a namespace of its own with a cable to the one that it was in, and says
// how to find that.
func cable() (told string, err error) {
	// a process that is there says which namespace the other end is to be in
	there := exec.Command("sleep", "60")
	if err := there.Start(); err != nil {
		return "", err
	}
	defer func() {
		there.Process.Kill()
		there.Wait()
	}()
	rest, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY, 0) // the new program has it, too
	if err != nil {
		return "", err
	}
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return "", err
	}
	own, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", err
	}
	// Two addresses that nobody else is likely to have: 198.18.0.0/15 is for benchmarks (RFC 6890).
	pid := os.Getpid()
	outer := "tide" + strconv.Itoa(pid)
	first := netip.AddrFrom4([4]byte{198, 18, byte(pid >> 6), byte(pid<<2) + 1})
	if err := ip("link set lo up", fmt.Sprintf("link add %s type veth peer name %s netns %d", innerDevice, outer,
		there.Process.Pid), fmt.Sprintf("addr add %s/30 dev %s", first.Next(), innerDevice),
		"link set "+innerDevice+" up"); err != nil {
		return "", err
	}
	if err := unix.Setns(rest, unix.CLONE_NEWNET); err != nil {
		return "", err
	}
	if err := ip(fmt.Sprintf("addr add %s/30 dev %s", first, outer), "link set "+outer+" up"); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d %s %s", rest, first, outer), unix.Setns(own, unix.CLONE_NEWNET)
}

// command runs a command in the namespace that a device is in.
func (n *Network) command(device string, of func() *exec.Cmd) (out []byte, err error) {
	if n.host == 0 || device != n.Down {
		return of().CombinedOutput()
	}
	runtime.LockOSThread()
	own, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(own)
	if err := unix.Setns(n.host, unix.CLONE_NEWNET); err != nil {
		return nil, err
	}
	out, err = of().CombinedOutput()
	if back := unix.Setns(own, unix.CLONE_NEWNET); back != nil {
		return out, back // the thread stays locked, and ends with its goroutine
	}
	runtime.UnlockOSThread()
	return out, err
}

// ip runs ip(8) for each of some commands.
func ip(commands ...string) error {
	for _, c := range commands {
		if out, err := exec.Command("ip", strings.Fields(c)...).CombinedOutput(); err != nil {
			return fmt.Errorf("ip %s: %s (%w)", c, strings.TrimSpace(string(out)), err)
		}
	}
	return nil
}
