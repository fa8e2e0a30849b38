package play

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
	"tidepull/internal/wire/eventstream"
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

// follow opens an event stream. Its events come among the player's others.
func (p *player) follow(ctx context.Context, s *replay.Step) error {
	ctx, cancel := context.WithCancel(ctx)
	req, err := p.request(ctx, s)
	if err != nil {
		cancel()
		return err
	}
	client := http.Client{Jar: p.web.Jar, Transport: p.web.Transport} // without the time limit of a request
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
		tell := func(e probe.Event) bool {
			e.At = time.Now()
			select {
			case events <- e:
				return true
			case <-ctx.Done():
				return false
			}
		}
		var reader eventstream.Reader
		buf := make([]byte, 32<<10)
		for {
			n, err := resp.Body.Read(buf)
			told := true
			bad := reader.Feed(buf[:n], func(e eventstream.Event) {
				told = told && tell(probe.Event{What: probe.In, Message: slices.Clone(e.Data)})
			})
			if bad != nil {
				tell(probe.Event{What: probe.Ended, By: "you", Why: bad.Error()})
			}
			if err != nil || bad != nil || !told {
				return
			}
		}
	}()
	return nil
}
