package export

import (
	"bytes"
	"fmt"
	"io"
	"path/filepath"

	"tidepull/internal/report/chart"
	"tidepull/internal/run"
)

// WriteReport writes the report on a run into a folder: report.pdf, its pages as report-1.svg and so on, report.md with
// its drawings beside it, and report.json, which is the run's summary (docs/summary.schema.json).
func WriteReport(dir string, r Request) ([]string, error) {
	w, entries, err := r.window()
	if err != nil {
		return nil, err
	}
	files, err := writeDocument(dir, "report", r.report(w, entries))
	if err != nil {
		return nil, err
	}
	sum := run.Summarise(r.Run)
	b, err := sum.JSON()
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "report.json")
	return append(files, path), run.WriteWhole(path, b)
}

// writeDocument writes a document into a folder, in files whose names begin alike, and says which.
func writeDocument(dir, name string, d *chart.Document) (files []string, err error) {
	put := func(name string, write func(io.Writer) error) error {
		var b bytes.Buffer
		if err := write(&b); err != nil {
			return err
		}
		path := filepath.Join(dir, name)
		files = append(files, path)
		return run.WriteWhole(path, b.Bytes())
	}
	if err := put(name+".pdf", func(w io.Writer) error { return d.Write(w, chart.PDF) }); err != nil {
		return nil, err
	}
	err = d.WritePages(func(n int, write func(io.Writer) error) error {
		return put(fmt.Sprintf("%s-%d.svg", name, n), write)
	})
	if err != nil {
		return nil, err
	}
	n := 0
	text, err := markdown(d, func(f chart.Figure) (string, error) {
		n++
		file := fmt.Sprintf("%s-figure-%d.svg", name, n)
		return file, put(file, f.WriteSVG)
	})
	if err != nil {
		return nil, err
	}
	return files, put(name+".md", func(w io.Writer) error {
		_, err := io.WriteString(w, text)
		return err
	})
}
