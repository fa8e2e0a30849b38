// Package trials holds the trials that ship with the tool.
package trials

import "embed"

// DemoName is the file name under which the demo trial is written out.
const DemoName = "morning-tide.trial.hcl"

// Demo is the trial that the demo runs against the stand-in.
//
//go:embed morning-tide.trial.hcl
var Demo []byte

// Shapes holds a trial for each shape of server, in shapes/.
//
//go:embed shapes
var Shapes embed.FS
