package main

import (
	"strings"

	"github.com/alecthomas/kong"

	"tidepull/internal/report/export"
)

// helpTexts are the descriptions of flags and commands that are too long for a tag, by the
// name under which the tag refers to them.
var helpTexts = kong.Vars{
	"ignore": "Differences in which this regular expression is found, on both sides, may be. May be given more " +
		"than once.",
	"shape": "Put messages as other servers do: array, envelope, string, digits or text; trials/shapes has a " +
		"trial for each.",
	"pack": "Let several messages share a frame: as lines, or as a list. Or cut them into frames anywhere: as " +
		"records, each ended by a byte 0, or sized, each behind its length in two bytes.",
	"all": "Lanes: all of them in the window, on numbered pages, and not only the stretch around the " +
		"first problem.",
	"expect": "Wait for a message that holds this text, or matches /a regular expression/.",
	"header": "One more header field. May be given more than once.",
	"headless": "Print plain lines instead of opening the full-screen view. It is also what happens if the " +
		"output is no terminal.",
	"twin": "Another recording of the same session, made right after: what is the same in both must be the same " +
		"now, and what is not is not compared.",
	"keep_value": "This value does not vary, whatever is guessed. May be given more than once.",
	"log":        "Write the tool's own log to FILE; by default to tidepull.log in the user's state folder.",
	"survey_file": "A trial, a .trial.hcl file: its target, its dialect, and what its sessions connect with and " +
		"say.",
	"survey_only": "Do only the experiments about these weaknesses, by number (docs/findings.md), or of these " +
		"names.",
	"demo_survey": "Survey the stand-in, with some switches thrown: " + strings.Join(thrown, ", ") +
		", or those of --wrong.",
	"views":          strings.Join(export.Views, ","),
	"export_message": "With --view message: its number; the first one with something wrong if it is not given.",
	"export_out":     "With --view report: all its files, as PDF, SVG, Markdown and JSON, into DIR.",
	"survey_out":     "Write what was found into DIR: survey.json, and the report as PDF, SVG and Markdown.",
	"survey_rooms":   "Be in the trial's rooms, and not in rooms of the survey's own, which the server would refuse.",
	"survey_names":   "Go by the trial's names, and not by names of the survey's own, which the server would refuse.",
	"survey_clients": "So many clients at a time at the most, in place of 40.",
	"capacity_vary":  "Vary this variable of the trial instead of the number of clients.",
	"capacity_from":  "The first load; by default an eighth of the trial's clients.",
	"capacity_most":  "The greatest load; by default 1,000 times the first.",
	"at_least":       "Exit with 0 only if it bears so much (1 if less, 3 if that is not proven).",
	"capacity_out":   "Write capacity.json, capacity.svg and capacity.pdf into this folder.",
	"portable":       "Use the driver for systems without epoll, for comparison. It has no kernel receive times.",
	"token_file":     "The file with the token that opens the NATS server, which others are not to read.",
	"nats_creds":     "A file with a user's credentials for the NATS server, in place of a token.",
	"nats_ca":        "A file with the certificates of who signed the NATS server's; by default those of the system.",
	"nats_cert": "This side's certificate: as a client of the NATS server, and as the server if it is started " +
		"here.",
	"agree": "The servers that this machine may be used to load: it refuses all others.",
	"over": "Deal the clients out to the machines that have joined (tidepull join) at this NATS server; if nobody " +
		"listens there and it is this machine, this run does. Latencies between machines are known as well as their " +
		"clocks.",
	"machines": "Wait for so many machines; by default those that are there within 2 s.",
	"workers": "Serve the clients with so many processes. They are started by themselves if the clients need more " +
		"open files than one process may have.",
	"from": "Connect from these addresses of this machine, each worker from one of them in turn. If the ports of one " +
		"address would run out, clients of a server on loopback come from 127.77.0.1 and following.",
	"loops": "Serve the clients with so many event loops, each on a thread of its own, instead of as " +
		"many as the trial says, or one for each core beyond two.",
	"out":          "Where the recording goes; - is the standard output.",
	"record":       "Relay between a client of yours and its server, and keep all that goes over.",
	"records":      "How many messages and deliveries the truth keeps one by one; -1 for none.",
	"remote_ok":    "Let it reach a server, or be reached, beyond this machine. Load only what is yours.",
	"replay_write": "Write the recording as a trial, and play nothing; - is the standard output.",
	"run_out": "Write summary.json, junit.xml, seconds.csv and latency.hlog into this folder when the run " +
		"is over.",
	"probe_url": "The server: a ws://, wss://, tcp://, tls:// or udp:// address, or an http:// one with how messages " +
		"come over it in front: events+http://, stream+http:// or polling+http://.",
	"probe_post": "Over HTTP: the path that what is sent is posted to; that of the address if it is not given.",
	"send": "Send a text. Escapes as \\n, \\0 and \\xHH stand for what they are elsewhere, but in JSON, which has " +
		"its own. The flags from here to --pause are done in the order in which they are given.",
	"ended_by": "Over TCP: what ends each message, with escapes as \\0; LF if it is not given.",
	"standin_prefix": "Over TCP: how the length in front of each message is written, in 1, 2 or 4 bytes (le: the low " +
		"byte first) or as a varint; messages are lines if it is not given.",
	"record_to": "The server: a ws://, http:// or tcp:// address, or wss://, https:// or tls://.",
	"path": "What does faults on the path of clients: the tool itself (own), or the system's traffic control, as " +
		"far as it can (kernel, as root).",
	"connect_to":    "Connect to this ADDRESS:PORT, or unix:PATH, whatever the names in addresses are.",
	"server_pid":    "The server's process, to measure what it uses.",
	"compare_out":   "Write the comparison into this folder as SVG, PDF and CSV.",
	"ca":            "With TLS: a file with the authorities, in PEM, that are trusted instead of the system's.",
	"server_name":   "With TLS: what the server must prove to be, if it is not the name in its address.",
	"tls_standin":   "Speak TLS, too, with a certificate made now, on the same port.",
	"authority_out": "With --tls: write the authority of that certificate to this file, in PEM, for clients to trust.",
	"prefix": "Over TCP: no lines, but messages behind their length in 1, 2 or 4 bytes (le: the low byte first), or " +
		"as a varint.",
	"verdicts":     "any,holds,broken,not proven,cut short,unreachable,running",
	"runs_verdict": "Those that ended so: holds, broken, not proven, cut short, unreachable or running.",
	"runs_since": "Those that began since then: how long ago (90m, 12h, 3d), or a date (2026-11-30, or with a time " +
		"of day).",
	"set":     "Set a variable of the trial. May be given more than once.",
	"probe":   "Drive one to three clients by hand; with --send and --expect, for scripts.",
	"conform": "Send a server what breaks RFC 6455, and tell what it does about each case.",
	"replay":  "Play a recording again, once or many times, and tell what is different now.",
	"selfcheck": "Say what this machine allows, and how much of a trial it could drive; nothing goes to the trial's " +
		"server.",
	"standin": "Serve the stand-in: a simulated messaging server, with switches that make it do wrong.",
	"store": "Keep runs in this SQLite file; by default tidepull/runs.db in the user's data folder. - " +
		"keeps none.",
	"token_env": "Send the token in this environment variable as Authorization: Bearer. It is shown nowhere.",
	"vary":      "This value varies; the expression of the trial language gives it, such as uuid().",
	"with_credentials": "Keep Authorization, cookies, and fields that look like passwords and tokens as they are; " +
		"without it they are hidden.",
	"demo_name": "Which of the shipped trials to run: morning-tide, three-ways, restart, silent-clients, " +
		"slow-reader, crowd-entering, crowd-return, burst, protocol-abuse or idle-cut.",
	"write": "Write the demo's trial to FILE and do nothing else; - is the standard output.",
	"wrong": "Throw any switch of the stand-in, such as alter=0.01; tidepull words lists them. May be " +
		"given more than once.",
}
