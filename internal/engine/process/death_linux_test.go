package process

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"
)

// startsFor, in the environment, has the test binary start a server and wait to be killed.
const startsFor = "TIDEPULL_STARTS_A_SERVER"

// TestKilled: a tool that is killed takes the server that it started with it, and what that runs in.
func TestKilled(t *testing.T) {
	if os.Getenv(startsFor) != "" {
		s, err := Start(context.Background(), Config{Command: []string{"sleep", "600"}, Within: 10 * time.Second})
		if err != nil {
			t.Fatal(err)
		}
		fmt.Println("server", s.PID())
		select {}
	}
	tool := exec.Command(os.Args[0], "-test.run=^TestKilled$")
	tool.Env = append(os.Environ(), startsFor+"=1")
	out, err := tool.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := tool.Start(); err != nil {
		t.Fatal(err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	pid, bad := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(line, "server")))
	if err != nil || bad != nil {
		t.Fatalf("it says %q, %v", line, err)
	}
	if _, runs := Use(pid); !runs {
		t.Fatal("the server does not run")
	}
	tool.Process.Kill()
	tool.Wait()
	for began := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		if _, runs := Use(pid); !runs {
			return
		}
		if time.Since(began) > 20*time.Second {
			t.Fatalf("the server, process %d, runs on", pid)
		}
	}
}
