package client

import (
	"strings"
	"testing"

	"tidepull/internal/trial"
	"tidepull/internal/wire/http1"
)

// TestWrongAnswers: a redirect that was to be followed and could not be is no good answer, unless its
// status is what the step wants.
func TestWrongAnswers(t *testing.T) {
	elsewhere := []http1.Field{{Name: "Location", Value: "http://other.example/in"}}
	for name, tc := range map[string]struct {
		head    http1.Head
		request trial.Request
		wrong   string
	}{
		"good":         {head: http1.Head{Status: 204}},
		"not there":    {head: http1.Head{Status: 404}, wrong: "the answer's status is 404"},
		"not modified": {head: http1.Head{Status: 304}, request: trial.Request{Redirects: 5}},
		"to another host": {head: http1.Head{Status: 302, Fields: elsewhere}, request: trial.Request{Redirects: 5},
			wrong: "not followed: 302 to 'http://other.example/in'"},
		"not to be followed": {head: http1.Head{Status: 302, Fields: elsewhere}},
		"as the step wants it": {head: http1.Head{Status: 302, Fields: elsewhere},
			request: trial.Request{Redirects: 5, Status: 302}},
	} {
		got := wrongIn(&tc.head, &tc.request, nil)
		if (got == "") != (tc.wrong == "") || !strings.Contains(got, tc.wrong) {
			t.Errorf("%s: '%s', want '%s'", name, got, tc.wrong)
		}
	}
}
