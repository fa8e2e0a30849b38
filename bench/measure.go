package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

type truth struct {
	Totals struct {
		Written  float64 `json:"written"`
		Presence float64 `json:"presence"`
	} `json:"totals"`
	Due struct {
		P50 float64 `json:"p50_us"`
		P99 float64 `json:"p99_us"`
	} `json:"from_due"`
}

func askTruth(addr string) (t truth, err error) {
	r, err := http.Get("http://" + addr + "/truth")
	if err != nil {
		return t, err
	}
	defer r.Body.Close()
	return t, json.NewDecoder(r.Body).Decode(&t)
}

// flowing waits until everybody has entered and messages go to all.
func flowing(addr string, members float64) error {
	for last, same := -1.0, 0; same < 2; time.Sleep(500 * time.Millisecond) {
		t, err := askTruth(addr)
		if err != nil {
			return err
		}
		same++
		if t.Totals.Written < 2*members || t.Totals.Presence != last {
			same = 0 // nobody speaks yet, or they are still entering
		}
		last = t.Totals.Presence
	}
	return nil
}

// beside lets the bare reader and the engine sit in the same rooms, or in as many each if both say something, at the
// same time, on the same core, and measures what CPU each takes for each of its deliveries: half of them all.
func (b *bencher) beside(l load) (bare, engine float64, err error) {
	board, addr, err := b.board(l.board...)
	if err != nil {
		return 0, 0, err
	}
	defer board.end()
	_, port, _ := strings.Cut(addr, ":")
	reader, err := start(pinned(1, b.reader, append([]string{port}, l.readerArgs()...)...))
	if err != nil {
		return 0, 0, err
	}
	defer reader.end()
	if _, err := reader.waitFor("ready"); err != nil {
		return 0, 0, err
	}
	path, err := b.trialOf(l, addr)
	if err != nil {
		return 0, 0, err
	}
	tool, err := start(pinned(1, b.tool, "--store="+l.store, "run", path, "--headless"))
	if err != nil {
		return 0, 0, err
	}
	defer tool.end()
	if err := flowing(addr, float64(2*l.clients)); err != nil {
		return 0, 0, err
	}
	us, err := each(addr, reader.cmd, tool.cmd)
	if err != nil {
		return 0, 0, err
	}
	tool.cmd.Process.Signal(os.Interrupt)
	return us[0], us[1], nil
}

// each measures what CPU some processes take for each of their deliveries over a window, in microseconds: of what the
// stand-in makes each gets as much.
func each(addr string, all ...*exec.Cmd) (us []float64, err error) {
	before, err := askTruth(addr)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		us = append(us, -cpu(c.Process.Pid))
	}
	time.Sleep(window)
	after, err := askTruth(addr)
	if err != nil {
		return nil, err
	}
	share := (after.Totals.Written - before.Totals.Written) / float64(len(all))
	if share <= 0 {
		return nil, errors.New("nothing was delivered within the window: something else takes the machine's cores")
	}
	for i, c := range all {
		used := us[i] + cpu(c.Process.Pid)
		if used <= 0 { // it has ended, or one of its children has
			return nil, fmt.Errorf("%s was over before the window was", strings.Join(c.Args, " "))
		}
		us[i] = used * 1e6 / share
	}
	return us, nil
}

type summary struct {
	Fanout struct {
		P50 float64 `json:"p50_us"`
		P99 float64 `json:"p99_us"`
	} `json:"fanout"`
	Self struct {
		ReadingLagP99  float64 `json:"reading_lag_p99_us"`
		ScheduleLagP99 float64 `json:"schedule_lag_p99_us"`
	} `json:"self"`
}

// measureTruth runs the engine alone and compares its fan-out with what the
// stand-in knows to have done.
func (b *bencher) measureTruth() (sum summary, t truth, err error) {
	board, addr, err := b.board()
	if err != nil {
		return sum, t, err
	}
	defer board.end()
	path, err := b.trialOf(plain("-"), addr)
	if err != nil {
		return sum, t, err
	}
	engine, err := start(pinned(1, b.tool, "--store=-", "run", path, "--headless", "--out", b.dir))
	if err != nil {
		return sum, t, err
	}
	_, err = engine.waitFor("verdict")
	engine.end()
	if err != nil {
		return sum, t, err
	}
	if t, err = askTruth(addr); err != nil {
		return sum, t, err
	}
	text, err := os.ReadFile(filepath.Join(b.dir, "summary.json"))
	if err == nil {
		err = json.Unmarshal(text, &sum)
	}
	return sum, t, err
}

// connected starts a stand-in and an engine, whose clients are all connected then, and wait.
func (b *bencher) connected(l load) (board, engine *process, addr string, err error) {
	if board, addr, err = b.board(l.board...); err != nil {
		return nil, nil, "", err
	}
	path, err := b.trialOf(l, addr)
	if err != nil {
		return nil, nil, "", err
	}
	if engine, err = start(pinned(1, b.tool, "--store=-", "run", path, "--headless")); err != nil {
		return nil, nil, "", err
	}
	_, err = engine.waitFor(" 8s ")
	return board, engine, addr, err
}

// memory measures what an idle client costs: the process with many of them
// less the process with few.
func (b *bencher) memory(r *report) error {
	var engine, busy, bare [2]float64
	for i, n := range []int{10, clients} {
		l := plain("-")
		l.clients, l.silence = n, 10*time.Second
		board, p, addr, err := b.connected(l)
		if err != nil {
			return err
		}
		engine[i] = resident(p.cmd.Process.Pid)
		time.Sleep(10 * time.Second)
		busy[i] = resident(p.cmd.Process.Pid)
		p.cmd.Process.Signal(os.Interrupt)
		p.end()
		_, port, _ := strings.Cut(addr, ":")
		q, err := start(pinned(1, b.reader, port, strconv.Itoa(n)))
		if err != nil {
			return err
		}
		if _, err := q.waitFor("ready"); err != nil {
			return err
		}
		bare[i] = resident(q.cmd.Process.Pid)
		q.end()
		board.end()
	}
	r.idle, r.busy, r.bareIdle = (engine[1]-engine[0])/(clients-10), (busy[1]-busy[0])/(clients-10),
		(bare[1]-bare[0])/(clients-10)
	return nil
}
