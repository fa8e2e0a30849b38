package main

import (
	"bytes"
	"fmt"
	"os"

	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

type wordsCommand struct{}

func (wordsCommand) Run() error {
	_, err := fmt.Print(language.Reference(board.SwitchWords()))
	return err
}

type formatCommand struct {
	Files []string `arg:"" help:"Trials, .trial.hcl files. They are laid out in place."`
}

// Run formats files in place; one with wrong syntax is left as it is.
func (c *formatCommand) Run() error {
	wrong := 0
	for _, file := range c.Files {
		if err := formatFile(file); err != nil {
			fmt.Fprintln(os.Stderr, err)
			wrong++
		}
	}
	if wrong > 0 {
		return &exitError{status: exitWrong}
	}
	return nil
}

// formatFile rewrites a file, where its layout changes; whole or not at all.
func formatFile(path string) error {
	src, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	out, err := language.Format(src, path)
	if err != nil || bytes.Equal(src, out) {
		return err
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path+".part", out, info.Mode().Perm()); err != nil {
		return err
	}
	if err := os.Rename(path+".part", path); err != nil {
		return err
	}
	fmt.Println(path)
	return nil
}
