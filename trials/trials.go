// Package trials holds the trials that ship with the tool.
package trials

import "embed"

// DemoName is the file name under which the demo trial is written out.
const DemoName = "morning-tide.trial.hcl"

// Demo is the trial that the demo runs against the stand-in.
//
//go:embed morning-tide.trial.hcl
var Demo []byte

// RoutesName is the file name of the trial about routes.
const RoutesName = "three-ways.trial.hcl"

// Routes is the trial that the demo about routes runs.
//
//go:embed three-ways.trial.hcl
var Routes []byte

// RestartName is the file name of the trial about a restart.
const RestartName = "restart.trial.hcl"

// Restart is the trial in which the board restarts under load.
//
//go:embed restart.trial.hcl
var Restart []byte

// Shapes holds a trial for each shape of server, in shapes/.
//
//go:embed shapes
var Shapes embed.FS
