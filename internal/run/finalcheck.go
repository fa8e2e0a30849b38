package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"slices"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine/secure"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/jsonscan"
)

// A FinalResult is what became of one final check.
type FinalResult struct {
	Name    string  `json:"name"`
	Verdict Verdict `json:"verdict"`
	Why     string  `json:"why,omitempty"` // it is not that it holds
}

// maxAnswer is the most of an answer that is read.
const maxAnswer = 16 << 20

// finalChecks asks the server what the trial wants to know and compares the
// answers with the run.
func finalChecks(t *trial.Trial, total *logbook.Window, behind int64) []FinalResult {
	var all []FinalResult
	for i := range t.FinalChecks {
		k := &t.FinalChecks[i]
		r := FinalResult{Name: k.Name, Verdict: Holds}
		verdict, err := finalCheck(t, k, total, behind)
		if r.Verdict = verdict; err != nil {
			r.Why = t.Hide(plain.Text(err.Error(), 300))
		}
		all = append(all, r)
	}
	return all
}

// finalCheck carries out one. If it would hold without what of the figures may be the tool's or the
// machine's doing, it is not proven; behind are deliveries that are excused in seconds in which that was so: the server
// may have counted them.
func finalCheck(t *trial.Trial, k *trial.FinalCheck, total *logbook.Window, behind int64) (Verdict, error) {
	ctx, cancel := context.WithTimeout(context.Background(), k.Within)
	defer cancel()
	s := &expr.Scope{Fields: make([]jsonscan.Value, t.Fields.Len()), Columns: t.Data}
	var answer []byte
	var err error
	if k.Command != nil {
		answer, err = exec.CommandContext(ctx, k.Command[0], k.Command[1:]...).Output()
		var exit *exec.ExitError
		switch {
		case ctx.Err() != nil: // neither is the server's doing
			return NotProven, fmt.Errorf("the command %s was not done within %v", k.Command[0], k.Within)
		case errors.As(err, &exit):
			err = fmt.Errorf("%w: %s", err, plain.Text(string(exit.Stderr), 200))
		case err != nil:
			return NotProven, fmt.Errorf("the command cannot be run: %w", err)
		}
	} else {
		answer, err = request(ctx, t, &k.Request, s)
	}
	if err != nil {
		return Broken, err
	}
	return holdsFinally(t, k, s, bytes.TrimSpace(answer), total, behind)
}

// holdsFinally compares an answer with the run.
func holdsFinally(t *trial.Trial, k *trial.FinalCheck, s *expr.Scope, answer []byte,
	total *logbook.Window, behind int64) (Verdict, error) {

	if t.Fields.Extract(answer, s.Fields) != nil {
		clear(s.Fields)
	}
	s.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: answer}
	said, sure := "", []float64(nil)
	for _, name := range k.Figures {
		f := logbook.FigureNamed(name)
		value, _ := f.Of(total)
		s.Figures = append(s.Figures, value)
		if certain, ok := f.Sure(total, total); ok && certain < value {
			said += fmt.Sprintf(", %s is %g, of which %g may be this machine's doing", name, value, value-certain)
			value = certain
		} else {
			said += fmt.Sprintf(", %s is %g", name, value)
		}
		sure = append(sure, value)
	}
	if k.Holds.True(s) {
		return Holds, nil
	}
	verdict := Broken
	if behind += total.Total.Lost - total.SurelyLost; behind > 0 && slices.Equal(sure, s.Figures) {
		// Its answer is that of a server which had not come to all that it was sent.
		verdict = NotProven
		said += fmt.Sprintf(", and %s deliveries may be missing by this machine's doing", units.Count(behind))
	}
	if s.Figures = sure; k.Holds.True(s) {
		verdict = NotProven
	}
	return verdict, fmt.Errorf("it does not hold%s; the answer was %s", said, plain.Text(string(answer), 200))
}

func request(ctx context.Context, t *trial.Trial, q *trial.Request, s *expr.Scope) ([]byte, error) {
	var content io.Reader
	if q.Content != nil {
		content = bytes.NewReader(q.Content.Append(nil, s))
	}
	req, err := http.NewRequestWithContext(ctx, q.Method, t.Target.HTTP+string(q.Path.Append(nil, s)), content)
	if err != nil {
		return nil, err
	}
	if content != nil {
		req.Header.Set("Content-Type", q.Type)
	}
	for _, f := range q.Fields {
		req.Header.Set(f.Name, string(f.Value.Append(nil, s)))
	}
	cfg, err := secure.ClientConfig(&t.Target.TLS)
	if err != nil {
		return nil, err
	}
	client := http.Client{Transport: &http.Transport{TLSClientConfig: cfg, DisableKeepAlives: true,
		DialContext: dialling(&t.Target)}, CheckRedirect: staysThere}
	resp, err := client.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	s.Vars[expr.VarStatus] = expr.Num(float64(resp.StatusCode))
	s.Head = &http1.Head{Status: resp.StatusCode}
	for name, values := range resp.Header {
		for _, v := range values {
			s.Head.Fields = append(s.Head.Fields, http1.Field{Name: name, Value: v})
		}
	}
	return io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
}
