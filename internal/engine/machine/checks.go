package machine

import (
	"fmt"
	"io/fs"
	"math"
	"strconv"
	"strings"
	"time"
)

// State is how far something of the machine serves for a run.
type State string

// The states.
const (
	Serves  State = "ok"
	Narrow  State = "narrow" // it serves, but sets a bound that one may run into
	Hinders State = "short"  // not for this trial, or not exactly
	Unknown State = "unknown"
)

// A Check is one thing that a run needs of the machine.
type Check struct {
	Of    string // what it is
	State State
	Is    string // a sentence with the figure
	Mend  string // a command that mends it; "": nothing is to be mended, or no command does
}

// A Need is what a run needs.
type Need struct {
	Sockets int // that are open at once; 0: it is not known
	Nodes   int // addresses that they lead to
	From    int // addresses that they come from
	Workers int // processes they are dealt out to
}

// Limits on what is tried and told.
const (
	fewFiles   = 4096 // with fewer, most trials are the wrong size
	fewPorts   = 20000
	fewBacklog = 1024
	smallBytes = 1 << 20
	perSocket  = 10 << 10 // of the kernel's memory for a connection, both ends on this machine
	perClient  = 8 << 10  // of the tool's
)

// Checks holds a machine's settings against what a run needs. sys is its root directory, files how many files a
// process may have (RaiseFileLimit). What the system does not tell is unknown.
func Checks(sys fs.FS, files int, n Need) []Check {
	r := settings{sys}
	n.Nodes, n.From, n.Workers = max(1, n.Nodes), max(1, n.From), max(1, n.Workers)
	return []Check{r.files(files, n), r.ports(n), r.backlog(), r.buffers(), r.kernelMemory(n), r.memory(n), r.cores(),
		r.tasks(), r.clock(), r.tracking(n)}
}

// settings reads what the system tells of itself in files (proc(5), sysfs(5), cgroups(7)).
type settings struct{ sys fs.FS }

// text gives a file's words; none if it cannot be read.
func (s settings) text(path string) []string {
	b, err := fs.ReadFile(s.sys, path)
	if err != nil {
		return nil
	}
	return strings.Fields(string(b))
}

// number gives the n-th number of a file; -1 if it is not there, +Inf for "max".
func (s settings) number(path string, n int) float64 {
	words := s.text(path)
	if n >= len(words) {
		return -1
	}
	if words[n] == "max" {
		return math.Inf(1)
	}
	v, err := strconv.ParseFloat(words[n], 64)
	if err != nil {
		return -1
	}
	return v
}

// group is the number in a file of the process's cgroup, of either version; -1 if there is none.
func (s settings) group(v2, controller, v1 string) float64 {
	b, err := fs.ReadFile(s.sys, "proc/self/cgroup")
	if err != nil {
		return -1
	}
	for _, line := range strings.Split(string(b), "\n") {
		parts := strings.SplitN(line, ":", 3)
		if len(parts) != 3 {
			continue
		}
		in := strings.TrimPrefix(parts[2], "/")
		var folder, file string
		switch {
		case parts[0] == "0" && parts[1] == "":
			folder, file = "sys/fs/cgroup", v2
		case strings.Contains(","+parts[1]+",", ","+controller+","):
			folder, file = "sys/fs/cgroup/"+controller, v1
		default:
			continue
		}
		// In a container the process's own group is mounted as the root.
		for _, at := range []string{folder + "/" + in + "/" + file, folder + "/" + file} {
			if v := s.number(strings.ReplaceAll(at, "//", "/"), 0); v >= 0 {
				return v
			}
		}
	}
	return -1
}

func (s settings) files(most int, n Need) Check {
	c := Check{Of: "files", State: Unknown, Is: "how many a process may have open is not known"}
	if most <= 0 {
		return c
	}
	c.State, c.Is = Serves, fmt.Sprintf("a process may have %d open", most)
	each := (n.Sockets + n.Workers - 1) / n.Workers
	hard := s.number("proc/sys/fs/nr_open", 0)
	switch {
	case n.Sockets > 0 && each+SpareFiles > most:
		c.State = Narrow
		c.Is += fmt.Sprintf("; the trial needs %d: it takes %d processes, which run starts by itself", n.Sockets,
			Processes(n.Sockets, max(most, SpareFiles+1)))
		c.Mend = fmt.Sprintf("ulimit -n %d", n.Sockets+SpareFiles)
	case most < fewFiles:
		c.State = Narrow
		c.Mend = "ulimit -n 65536"
	}
	if c.Mend != "" && hard > 0 {
		c.Mend += " (as root, or with nofile in /etc/security/limits.conf, LimitNOFILE= of systemd, --ulimit " +
			"nofile= of a " +
			"container)"
	}
	return c
}

func (s settings) ports(n Need) Check {
	each := s.localPorts()
	if each == 0 {
		return Check{Of: "ports", State: Unknown, Is: "how many there are is not known"}
	}
	c := Check{Of: "ports", State: Serves, Is: fmt.Sprintf("%d from each address of this machine to each address of "+
		"the "+
		"target", each)}
	const mend = `sysctl -w net.ipv4.ip_local_port_range="1024 65535"`
	switch have := each * n.Nodes * n.From; {
	case n.Sockets > have:
		c.State = Hinders
		c.Is += fmt.Sprintf("; the trial needs %d, and has %d", n.Sockets, have)
		c.Mend = mend + fmt.Sprintf(", or --from with %d addresses of this machine",
			(n.Sockets+each*n.Nodes-1)/(each*n.Nodes))
	case each < fewPorts:
		c.State, c.Mend = Narrow, mend
	}
	return c
}

func (s settings) backlog() Check {
	return s.atLeast("crowds", "proc/sys/net/core/somaxconn", 0, fewBacklog,
		"a server on this machine has up to %d connections waiting to be accepted",
		"sysctl -w net.core.somaxconn=4096", "more of a crowd are told to try again, a second later")
}

func (s settings) buffers() Check {
	return s.atLeast("buffers", "proc/sys/net/ipv4/tcp_rmem", 2, smallBytes,
		"the kernel keeps up to %d bytes for a connection that is not read",
		`sysctl -w net.ipv4.tcp_rmem="4096 131072 6291456"`,
		"a tool that is behind for a moment would hold the server up")
}

// atLeast checks a setting that should not be below a bound.
func (s settings) atLeast(of, file string, word int, least float64, is, mend, why string) Check {
	c := Check{Of: of, State: Serves}
	switch v := s.number(file, word); {
	case v < 0:
		c.State, c.Is = Unknown, "/"+file+" cannot be read"
	case v < least:
		c.State, c.Is, c.Mend = Narrow, fmt.Sprintf(is+": %s", int64(v), why), mend
	default:
		c.Is = fmt.Sprintf(is, int64(v))
	}
	return c
}

// kernelMemory checks for how many connections the kernel has memory in TCP's own bounds (tcp(7), tcp_mem: pages).
func (s settings) kernelMemory(n Need) Check {
	pages := s.number("proc/sys/net/ipv4/tcp_mem", 2)
	if pages < 0 {
		return Check{Of: "TCP memory", State: Unknown, Is: "the kernel's bound is not known"}
	}
	const page = 4096
	bytes := pages * page
	c := Check{Of: "TCP memory", State: Serves, Is: fmt.Sprintf("%d MB for all that waits to be read or sent",
		int64(bytes)>>20)}
	if need := float64(n.Sockets) * perSocket; need > bytes {
		c.State = Hinders
		c.Is += fmt.Sprintf("; %d connections take about %d", n.Sockets, int64(need)>>20)
		c.Mend = fmt.Sprintf(`sysctl -w net.ipv4.tcp_mem="%d %d %d"`, int64(need/page), int64(need/page*3/2),
			int64(need/page*2))
	}
	return c
}

func (s settings) memory(n Need) Check {
	free := -1.0
	words := s.text("proc/meminfo")
	for i, w := range words {
		if w == "MemAvailable:" && i+1 < len(words) {
			if kb, err := strconv.ParseFloat(words[i+1], 64); err == nil {
				free = kb * 1024
			}
		}
	}
	c := Check{Of: "memory", State: Serves}
	limit := s.group("memory.max", "memory", "memory.limit_in_bytes")
	switch {
	case free < 0:
		c.State, c.Is = Unknown, "how much is free is not known"
		return c
	case limit > 0 && limit < free:
		free = limit
		c.Is = fmt.Sprintf("%d MB, which the process's cgroup may have", int64(free)>>20)
	default:
		c.Is = fmt.Sprintf("%d MB are free", int64(free)>>20)
	}
	need := float64(512<<20) + float64(n.Sockets)*(perSocket+perClient)
	if need > free {
		c.State = Hinders
		c.Is += fmt.Sprintf("; this takes about %d", int64(need)>>20)
		if free == limit {
			c.Mend = "systemd-run --scope -p MemoryMax=infinity ..., or --memory of the container"
		}
	}
	return c
}

// cores checks whether a quota of the process's cgroup takes cores away in the middle of a second.
func (s settings) cores() Check {
	quota := s.group("cpu.max", "cpu", "cpu.cfs_quota_us")
	c := Check{Of: "core quota", State: Serves, Is: "none: the cores are there all the time"}
	if quota > 0 && !math.IsInf(quota, 1) {
		period := 100e3 // microseconds, the default of both versions
		c.State = Narrow
		c.Is = fmt.Sprintf("%.1f cores: who has used them up stands still for the rest of each %v", quota/period,
			time.Duration(period)*time.Microsecond)
		c.Mend = "systemd-run --scope -p CPUQuota= ..., or no --cpus for the container (--cpuset-cpus keeps cores " +
			"whole)"
	}
	if word := s.text("sys/devices/system/cpu/cpu0/cpufreq/scaling_governor"); len(word) > 0 && word[0] == "powersave" {
		c.State = Narrow
		c.Is += "; they are slowed down to save power"
		c.Mend = "cpupower frequency-set -g performance"
	}
	return c
}

func (s settings) tasks() Check {
	switch most := s.group("pids.max", "pids", "pids.max"); {
	case most < 0:
		return Check{Of: "threads", State: Unknown, Is: "how many there may be is not known"}
	case most < 256:
		return Check{Of: "threads", State: Narrow, Is: fmt.Sprintf("the cgroup may have %d", int64(most)),
			Mend: "systemd-run --scope -p TasksMax=infinity ..., or --pids-limit of the container"}
	case math.IsInf(most, 1):
		return Check{Of: "threads", State: Serves, Is: "no limit"}
	default:
		return Check{Of: "threads", State: Serves, Is: fmt.Sprintf("the cgroup may have %d", int64(most))}
	}
}

// clock checks whether the clock is one that is read without a call into the kernel.
func (s settings) clock() Check {
	const folder = "sys/devices/system/clocksource/clocksource0/"
	now := s.text(folder + "current_clocksource")
	if len(now) == 0 {
		return Check{Of: "clock", State: Unknown, Is: "its source is not known"}
	}
	c := Check{Of: "clock", State: Serves, Is: "source " + now[0]}
	switch now[0] {
	case "tsc", "kvm-clock", "arch_sys_counter", "hyperv_clocksource_tsc_page":
	default:
		c.State = Narrow
		c.Is += ": each look at it is a call into the kernel"
		for _, other := range s.text(folder + "available_clocksource") {
			if other == "tsc" || other == "kvm-clock" {
				c.Mend = "echo " + other + " > /" + folder + "current_clocksource"
				break
			}
		}
	}
	return c
}

// tracking checks whether the firewall's table of connections has room (nf_conntrack_max).
func (s settings) tracking(n Need) Check {
	most := s.number("proc/sys/net/netfilter/nf_conntrack_max", 0)
	c := Check{Of: "firewall", State: Serves, Is: "connections are not counted"}
	if most < 0 {
		return c
	}
	have := s.number("proc/sys/net/netfilter/nf_conntrack_count", 0)
	c.Is = fmt.Sprintf("up to %d connections", int64(most))
	if float64(n.Sockets)+max(0, have) > most {
		c.State = Hinders
		c.Is += fmt.Sprintf("; the trial adds %d", n.Sockets)
		c.Mend = fmt.Sprintf("sysctl -w net.netfilter.nf_conntrack_max=%d", 2*(n.Sockets+int(max(0, have))))
	}
	return c
}

// ClockCost is what a look at the clock takes, the median of some thousand.
func ClockCost() time.Duration {
	const looks = 1000
	best := time.Duration(math.MaxInt64)
	for range 20 {
		began := clock()
		for range looks {
			clock()
		}
		best = min(best, time.Duration(clock()-began)/looks)
	}
	return best
}
