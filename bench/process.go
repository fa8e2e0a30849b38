package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
)

// pinned runs a command on one core, if that can be said.
func pinned(core int, name string, args ...string) *exec.Cmd {
	if path, err := exec.LookPath("taskset"); err == nil && runtime.NumCPU() > 1 {
		return exec.Command(path, append([]string{"-c", strconv.Itoa(core), name}, args...)...)
	}
	return exec.Command(name, args...)
}

// A process is a child that ends with its input.
type process struct {
	cmd   *exec.Cmd
	in    io.Closer
	lines *bufio.Scanner
}

func start(cmd *exec.Cmd) (*process, error) {
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return &process{cmd, in, bufio.NewScanner(out)}, nil
}

func (p *process) end() {
	p.in.Close()
	for p.lines.Scan() { // or it could not write its last lines
	}
	p.cmd.Wait()
}

// waitFor reads lines until one holds a text.
func (p *process) waitFor(text string) (string, error) {
	for p.lines.Scan() {
		if strings.Contains(p.lines.Text(), text) {
			return p.lines.Text(), nil
		}
	}
	return "", fmt.Errorf("it ended before it said %q", text)
}

// board starts a stand-in on the first core.
func (b *bencher) board(more ...string) (*process, string, error) {
	p, err := start(pinned(0, b.tool, append([]string{"standin", "--listen", "127.0.0.1:0", "--end-with-input",
		"--ping-every", "1h", "--records=-1", "--history=-1"}, more...)...))
	if err != nil {
		return nil, "", err
	}
	line, err := p.waitFor("serving ")
	if err != nil {
		return nil, "", err
	}
	_, addr, _ := strings.Cut(line, "://")
	return p, strings.TrimSuffix(addr, "/live"), nil
}

// cpu is the processor time of a process and its children in seconds (proc(5), fields 14, 15).
func cpu(pid int) float64 {
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	sum := 0.0
	if err == nil {
		for _, child := range bytes.Fields(children) {
			n, _ := strconv.Atoi(string(child))
			sum += cpu(n)
		}
	}
	return sum + cpuOf(pid)
}

func cpuOf(pid int) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	f := bytes.Fields(b[bytes.LastIndexByte(b, ')')+1:])
	user, _ := strconv.ParseFloat(string(f[11]), 64)
	system, _ := strconv.ParseFloat(string(f[12]), 64)
	return (user + system) / 100
}

func resident(pid int) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0
	}
	pages, _ := strconv.ParseFloat(string(bytes.Fields(b)[1]), 64)
	return pages * float64(os.Getpagesize())
}

// stolen is the core time taken from the machine so far, in seconds.
func stolen() float64 {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0
	}
	ticks, _ := strconv.ParseFloat(string(bytes.Fields(b)[8]), 64)
	return ticks / 100
}
