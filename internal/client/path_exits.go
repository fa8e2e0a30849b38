package client

import (
	"tidepull/internal/measure/logbook"
)

// A cause is why a client's connection ended, or a try to have one. What it means is a row of
// exits, and of docs/endings.md; a new cause needs no more than its row and a call of ends.
type cause uint8

const (
	byServer       cause = iota // it closed or reset it, or broke the protocol; or what is between did
	byPath                      // the same, while a fault of the trial's kept the two from hearing each other
	byCut                       // a fault of the trial's
	asEvicted                   // by the server, as the client misbehaves on purpose
	asAwaited                   // by the server, as a step waits for
	asSlow                      // by the server, as the client reads slowly on purpose
	asBad                       // by the server, as the client has sent a bad message on purpose
	nameless                    // by the client: nothing answered its name, on a route that is not the last
	closed                      // by the client, in order
	vanished                    // by the client, as a step has it
	refusal                     // it was not agreed on
	refusalWanted               // the same, as a step wants
	keptOut                     // it was not agreed on, by a fault of the trial's
	hindrance                   // this machine could not even try
	returnFailed                // a try to come back was refused, not answered in time, or broke again
	returnDenied                // its name or a room was refused, or its resume not answered
	returnHindered              // this machine could not even try to have it come back
	giveUp                      // it has tried to come back for long enough
	ebb                         // the client is to go, and was still connecting
	ebbAway                     // the client is to go, or the run is over, and it was on its way back
	runEnd                      // the run has to be over
	sessionEnd                  // the session is over, and there is no connection
	numCauses
)

// next is what a client does once its connection has ended.
type next uint8

const (
	over        next = iota // it is done
	goesOn                  // its session goes on, without a connection
	byNextRoute             // it takes the next route, from its connect step on
	comesBack               // it comes back as its crew does, and its session goes on where it was
)

func (n next) String() string {
	return [...]string{"it is done", "its session goes on", "it takes the next route", "it comes back"}[n]
}

// An exit is what a cause means for the client, its books and the others.
type exit struct {
	what string // the cause in words

	hangsUp   bool // the client closes the line; else it is closed already
	fails     bool // what an expect step waits for is missed
	announced bool // the others in its rooms should hear that it is gone
	asks      bool // the client counts as having asked to leave its rooms: it is owed nothing more

	away    cause // what it is instead if the client is on its way back; 0: the same
	routes  bool  // there may be another route: if none was agreed on, or before it has settled
	returns bool  // it comes back, if its crew does and it is not about to go
	then    next  // if neither

	// If it is done then:
	figure   string                       // it is counted in; "": in none
	count    func(*logbook.Counts) *int64 // the same; nil if books knows
	event    logbook.EventKind            // noEvent: none
	detail   string                       // of the event, if there is no reason
	reason   string                       // under which it is counted among the reasons; "": none
	trouble  bool                         // the lanes keep what was going on
	finished bool                         // it has come to its end: clients.finished
}

// noEvent is none of the events that end something.
const noEvent = logbook.SetOut

var exits = [numCauses]exit{
	byServer: {what: "the server ended it, or something between", fails: true, announced: true, away: returnFailed,
		routes: true, returns: true, figure: "clients.broken",
		count: func(c *logbook.Counts) *int64 { return &c.Broken }, event: logbook.Broke, reason: "broken",
		trouble: true},
	byPath: {what: "it ended, and a fault of the trial keeps client and server from hearing each other",
		fails: true, announced: true, away: returnFailed, routes: true, returns: true, figure: "returns.broke",
		count: func(c *logbook.Counts) *int64 { return &c.Returns.Broke }, event: logbook.Broke, reason: "broken"},
	byCut: {what: "a fault of the trial cut it", hangsUp: true, fails: true, announced: true, away: returnFailed,
		returns: true, figure: "returns.broke",
		count: func(c *logbook.Counts) *int64 { return &c.Returns.Broke }, event: logbook.Broke, reason: "broken"},
	asEvicted: {what: "the server closed a client that misbehaves on purpose", fails: true, announced: true,
		away: returnFailed, returns: true},
	asAwaited: {what: "the server closed it, and a step waited for that", announced: true, then: goesOn},
	asSlow: {what: "the server closed a client that reads slowly on purpose", fails: true, announced: true,
		event: logbook.Closed, finished: true},
	asBad: {what: "the server closed a client that has sent a bad message on purpose", fails: true, announced: true,
		event: logbook.Closed, finished: true},
	nameless: {what: "the server has not confirmed the name in time, and there is another route", hangsUp: true,
		announced: true, away: returnFailed, routes: true, returns: true},
	closed: {what: "the client closed it in order", event: logbook.Closed, finished: true},
	vanished: {what: "a step of the client breaks it", hangsUp: true, announced: true, then: goesOn,
		event: logbook.Closed, detail: "vanished"},
	refusal: {what: "the server refused it, or nothing answered in time", away: returnFailed, routes: true,
		figure: "clients.refused", event: logbook.Refused, reason: "refused"},
	refusalWanted: {what: "the server refused it, as a step wants", then: goesOn},
	keptOut: {what: "it was refused or not answered, and a fault of the trial's is why: it tries again until that " +
		"is over", away: returnFailed, routes: true, then: goesOn},
	hindrance: {what: "this machine has no port, file or memory to try", away: returnHindered},
	returnFailed: {what: "on the way back: it was refused, not answered in time, or broke again", announced: true,
		routes: true, returns: true},
	returnDenied: {what: "on the way back: its name or a room was refused, or its resume not answered", hangsUp: true,
		announced: true, returns: true},
	returnHindered: {what: "on the way back: this machine has no port, file or memory to try", returns: true},
	giveUp: {what: "on the way back: the client has tried for long enough", figure: "returns.gave_up",
		count: func(c *logbook.Counts) *int64 { return &c.Returns.GaveUp }, event: logbook.GaveUp, reason: "gave up",
		trouble: true},
	ebb: {what: "the client is to go, and was still connecting", hangsUp: true, away: ebbAway, event: logbook.Closed,
		finished: true},
	ebbAway: {what: "on the way back: the client is to go", hangsUp: true, asks: true,
		figure: "returns.gave_up, or returns.no_time before a try has failed", event: logbook.Closed, finished: true},
	runEnd: {what: "the run has to be over", hangsUp: true, asks: true, away: ebbAway, event: logbook.Closed,
		finished: true},
	sessionEnd: {what: "its session is over, and there is no connection", event: logbook.Closed, finished: true},
}
