package process

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// scrapeWithin is how long a server may take to give its metrics, and maxMetrics how long they
// may be, in bytes.
const (
	scrapeWithin = 500 * time.Millisecond
	maxMetrics   = 8 << 20
)

// metricNames are what the figures of a process are called on a Prometheus page, by the
// conventions of its client libraries; the first that is there counts.
var metricNames = [...][]string{
	{"process_resident_memory_bytes"},
	{"process_cpu_seconds_total"},
	{"process_open_fds"},
	{"process_threads", "process_num_threads", "go_threads", "jvm_threads_current"},
}

// Scrape asks for a Prometheus page with a client, and reads off it what a process uses, and the
// gauges that have some names: the values of all labels of each added up, NaN of one that is not
// there or has no name. ok says that the page has something of the process itself.
func Scrape(ctx context.Context, with *http.Client, address string, gauges []string) (u Used, of []float64, ok bool,
	err error) {
	ctx, cancel := context.WithTimeout(ctx, scrapeWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return u, of, false, err
	}
	resp, err := with.Do(req)
	if err != nil {
		return u, of, false, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return u, of, false, fmt.Errorf("%s answered %d", address, resp.StatusCode)
	}
	var values [len(metricNames)]float64
	var ranks [len(metricNames)]int
	lines := bufio.NewScanner(io.LimitReader(resp.Body, maxMetrics))
	lines.Buffer(nil, 1<<20)
	for range gauges {
		of = append(of, math.NaN())
	}
	found := false
	for lines.Scan() {
		name, value, ok := metric(lines.Text())
		if !ok {
			continue
		}
		for i, g := range gauges {
			switch {
			case g != name:
			case math.IsNaN(of[i]):
				of[i] = value
			default:
				of[i] += value
			}
		}
		for i, names := range metricNames {
			for rank, n := range names {
				if n == name && (ranks[i] == 0 || rank+1 < ranks[i]) {
					values[i], ranks[i] = value, rank+1
					found = true
				}
			}
		}
	}
	if err := lines.Err(); err != nil {
		return u, of, false, err
	}
	return Used{Memory: int64(values[0]), CPU: time.Duration(values[1] * float64(time.Second)), Files: int(values[2]),
		Threads: int(values[3])}, of, found, nil
}

// metric takes a line of the text format apart: its name without labels, and its value.
func metric(line string) (name string, value float64, ok bool) {
	if strings.HasPrefix(line, "#") {
		return "", 0, false
	}
	end := strings.IndexAny(line, "{ ")
	if end < 0 {
		return "", 0, false
	}
	name, rest := line[:end], line[end:]
	if strings.HasPrefix(rest, "{") {
		close := strings.LastIndexByte(rest, '}')
		if close < 0 {
			return "", 0, false
		}
		rest = rest[close+1:]
	}
	fields := strings.Fields(rest)
	if len(fields) == 0 {
		return "", 0, false
	}
	value, err := strconv.ParseFloat(fields[0], 64)
	return name, value, err == nil && value >= 0 && value < 1e15
}
