package play

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
)

// A stream is an event stream that a player follows. Its goroutine ends with
// stop, or with the stream.
type stream struct {
	cancel context.CancelFunc
	done   chan struct{}
}

func (s *stream) stop() {
	s.cancel()
	<-s.done
}

// maxEvent is the longest event of an event stream, in bytes.
const maxEvent = 4 << 20

// tooLong ends a stream whose server sends an event without end.
func tooLong(ctx context.Context, events chan probe.Event) {
	select {
	case events <- probe.Event{What: probe.Ended, At: time.Now(), By: "you", Why: fmt.Sprintf("an event of more than %d MiB", maxEvent>>20)}:
	case <-ctx.Done():
	}
}

// follow opens an event stream. Its events come among the player's others.
func (p *player) follow(ctx context.Context, s *replay.Step) error {
	ctx, cancel := context.WithCancel(ctx)
	req, err := p.request(ctx, s)
	if err != nil {
		cancel()
		return err
	}
	client := http.Client{Jar: p.web.Jar} // without the time limit of a request
	resp, err := client.Do(req)
	if err == nil && resp.StatusCode != s.Status {
		resp.Body.Close()
		err = fmt.Errorf("the event stream is answered %d, and was %d", resp.StatusCode, s.Status)
	}
	if err != nil {
		cancel()
		return err
	}
	if p.events == nil {
		p.events = make(chan probe.Event, 1024)
	}
	events, st := p.events, &stream{cancel: cancel, done: make(chan struct{})}
	p.streams = append(p.streams, st)
	go func() {
		defer close(st.done)
		defer cancel()
		defer resp.Body.Close()
		lines := bufio.NewScanner(resp.Body)
		lines.Buffer(nil, maxEvent)
		var data []string
		size := 0
		for lines.Scan() {
			line := strings.TrimSuffix(lines.Text(), "\r")
			field, value, _ := strings.Cut(line, ":")
			switch {
			case field == "data":
				data = append(data, strings.TrimPrefix(value, " "))
				if size += len(value) + 1; size > maxEvent {
					tooLong(ctx, events)
					return
				}
			case line == "" && len(data) > 0: // the event is whole (WHATWG HTML 9.2.6)
				message := []byte(strings.Join(data, "\n"))
				data, size = nil, 0
				select {
				case events <- probe.Event{What: probe.In, At: time.Now(), Message: message}:
				case <-ctx.Done():
					return
				}
			}
		}
		if errors.Is(lines.Err(), bufio.ErrTooLong) {
			tooLong(ctx, events)
		}
	}()
	return nil
}
