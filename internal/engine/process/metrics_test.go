package process

import (
	"math"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// TestScrape: what a process uses is read off pages as client libraries write them, and a page
// that says nothing of it, or none at all, is an error.
func TestScrape(t *testing.T) {
	pages := map[string]string{
		"/go": "# HELP go_threads Threads.\n# TYPE go_threads gauge\ngo_threads 9\nprocess_cpu_seconds_total 12.5\n" +
			"process_open_fds 17\nprocess_resident_memory_bytes 2.5e+07\n",
		"/labels": "process_resident_memory_bytes{app=\"a } b\",x=\"1\"} 1024 1700000000000\nprocess_threads{} " +
			"3\ngo_threads 99\n",
		"/other": "harbour_notices_total 4\nharbour_members{lock=\"1\"} 3\nharbour_members{lock=\"2\"} 4\n",
		"/hostile": "process_resident_memory_bytes NaN\nprocess_open_fds -1\nprocess_threads{ 3\n" +
			strings.Repeat("x", 100) + "\n{} 1\n \n",
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page, ok := pages[r.URL.Path]
		if !ok {
			time.Sleep(2 * scrapeWithin) // it takes too long
		}
		w.Write([]byte(page))
	}))
	defer s.Close()
	for path, want := range map[string]Used{
		"/go":     {Memory: 25e6, CPU: 12500 * time.Millisecond, Files: 17, Threads: 9},
		"/labels": {Memory: 1024, Threads: 3},
	} {
		if got, _, ok, err := Scrape(t.Context(), s.Client(), s.URL+path, nil); err != nil || !ok || got != want {
			t.Errorf("%s: %+v, %v", path, got, err)
		}
	}
	for _, path := range []string{"/other", "/hostile"} {
		if got, _, ok, err := Scrape(t.Context(), s.Client(), s.URL+path, nil); ok || err != nil {
			t.Errorf("%s: %+v, %v", path, got, err)
		}
	}
	if got, _, _, err := Scrape(t.Context(), s.Client(), s.URL+"/slow", nil); err == nil {
		t.Errorf("%+v", got)
	}
	_, of, _, err := Scrape(t.Context(), s.Client(), s.URL+"/other",
		[]string{"harbour_members", "", "harbour_boats"})
	if err != nil || of[0] != 7 || !math.IsNaN(of[1]) || !math.IsNaN(of[2]) {
		t.Errorf("gauges %v, %v", of, err)
	}
}

// FuzzMetric: no line of a page hurts.
func FuzzMetric(f *testing.F) {
	f.Add("process_threads{a=\"b\"} 3 17")
	f.Fuzz(func(t *testing.T, line string) {
		if name, value, ok := metric(line); ok && (strings.ContainsAny(name, "{ ") || value < 0) {
			t.Fatal(name, value)
		}
	})
}
