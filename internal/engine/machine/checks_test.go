package machine

import (
	"strings"
	"testing"
	"testing/fstest"
)

// machineOf is a machine's files, by path and what is in them.
func machineOf(files ...string) fstest.MapFS {
	m := fstest.MapFS{}
	for i := 0; i < len(files); i += 2 {
		m[files[i]] = &fstest.MapFile{Data: []byte(files[i+1])}
	}
	return m
}

// TestChecks: what falls short is found, with how to mend it, and what does not is not.
func TestChecks(t *testing.T) {
	wide := []string{"proc/sys/net/ipv4/ip_local_port_range", "1024 65535", "proc/sys/net/core/somaxconn", "4096",
		"proc/sys/net/ipv4/tcp_rmem", "4096 131072 6291456", "proc/sys/net/ipv4/tcp_mem", "100000 200000 400000",
		"proc/meminfo", "MemTotal: 16000000 kB\nMemAvailable: 8000000 kB\n",
		"proc/self/cgroup", "0::/user/a\n", "sys/fs/cgroup/user/a/memory.max", "max", "sys/fs/cgroup/user/a/cpu.max",
		"max 100000", "sys/fs/cgroup/user/a/pids.max", "max",
		"sys/devices/system/clocksource/clocksource0/current_clocksource", "tsc"}
	tests := []struct {
		of    string
		with  []string // besides, or instead
		files int
		need  Need
		state State
		is    string
		mend  string
	}{
		{of: "", files: 65536, need: Need{Sockets: 20000}},
		{of: "files", files: 1024, need: Need{Sockets: 10}, state: Narrow, is: "1024 open", mend: "ulimit -n"},
		{of: "files", files: 10064, need: Need{Sockets: 25000}, state: Narrow, is: "it takes 3 processes",
			mend: "ulimit -n 25064"},
		{of: "files", files: 10064, need: Need{Sockets: 25000, Workers: 3}, state: Serves},
		{of: "ports", with: []string{"proc/sys/net/ipv4/ip_local_port_range", "32768 60999"}, files: 1 << 20,
			need: Need{Sockets: 60000}, state: Hinders, is: "needs 60000, and has 28232", mend: "--from with 3 " +
				"addresses"},
		{of: "ports", with: []string{"proc/sys/net/ipv4/ip_local_port_range", "32768 60999"}, files: 1 << 20,
			need: Need{Sockets: 60000, Nodes: 3}, state: Serves},
		{of: "crowds", with: []string{"proc/sys/net/core/somaxconn", "128"}, files: 65536, state: Narrow, is: "128",
			mend: "sysctl -w net.core.somaxconn"},
		{of: "memory", with: []string{"sys/fs/cgroup/user/a/memory.max", "536870912"}, files: 65536,
			need: Need{Sockets: 20000}, state: Hinders, is: "512 MB, which the process's cgroup may have",
			mend: "MemoryMax"},
		{of: "memory", with: []string{"proc/self/cgroup", "5:memory:/b\n0::/\n",
			"sys/fs/cgroup/memory/b/memory.limit_in_bytes",
			"1073741824", "sys/fs/cgroup/pids.max", "max"}, files: 65536, need: Need{Sockets: 100}, state: Serves,
			is: "1024 MB"},
		{of: "core quota", with: []string{"sys/fs/cgroup/user/a/cpu.max", "150000 100000"}, files: 65536, state: Narrow,
			is: "1.5 cores", mend: "CPUQuota"},
		{of: "threads", with: []string{"sys/fs/cgroup/user/a/pids.max", "64"}, files: 65536, state: Narrow, is: "64"},
		{of: "clock", with: []string{"sys/devices/system/clocksource/clocksource0/current_clocksource", "hpet",
			"sys/devices/system/clocksource/clocksource0/available_clocksource", "hpet tsc"}, files: 65536,
			state: Narrow,
			is:    "hpet", mend: "echo tsc > /sys/devices"},
		{of: "firewall", with: []string{"proc/sys/net/netfilter/nf_conntrack_max", "1000",
			"proc/sys/net/netfilter/nf_conntrack_count", "900"}, files: 65536, need: Need{Sockets: 200}, state: Hinders,
			is: "the trial adds 200", mend: "nf_conntrack_max=2200"},
	}
	for _, tt := range tests {
		var found Check
		for _, c := range Checks(machineOf(append(append([]string{}, wide...), tt.with...)...), tt.files, tt.need) {
			switch {
			case c.Of == tt.of:
				found = c
			case c.State != Serves:
				t.Errorf("%+v: %+v", tt, c)
			}
		}
		if tt.of != "" && (found.State != tt.state || !strings.Contains(found.Is, tt.is) ||
			!strings.Contains(found.Mend, tt.mend) || (found.Mend == "") != (tt.mend == "") && tt.mend != "") {
			t.Errorf("%+v: got %+v", tt, found)
		}
	}
	// A system that tells nothing is blamed for nothing.
	for _, c := range Checks(machineOf(), 0, Need{Sockets: 1 << 20}) {
		if c.State == Narrow || c.State == Hinders {
			t.Errorf("of nothing: %+v", c)
		}
	}
	if cost := ClockCost(); cost <= 0 {
		t.Errorf("a look at the clock takes %v", cost)
	}
}
