package demo

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fencepost/internal/worlds"
)

// chapter is a part of the story.
type chapter struct {
	title, text string
	steps       []step
}

// step is one command, with what must come of it.
type step struct {
	say    string
	in     string // workspace; empty: observatory
	args   []string
	serve  bool
	stop   string        // ends a server, or all
	status int           // exit status that it must have
	want   []string      // what it must say
	wait   time.Duration // try again for so long until it is so
	lines  int           // of its output to show; 0: all
	do     func(t *teller, dir string) error
}

// patience is how long servers may take to tell each other.
const patience = 8 * time.Second

var chapters = []chapter{
	{"A new zone", "Ines starts a workspace. The file she gets explains its own timers.", []step{
		{args: []string{"init", "first", "--zone", "mudflats.example", "--ns", "ns1=198.51.100.53", "--ns", "ns2=203.0.113.53"}, want: []string{"mudflats.example.zone"}},
		{args: []string{"check", "--workspace", "first"}, want: []string{"nothing to report"}},
	}},
	{"A camera", "The observatory's zone is a hand-kept file. An edit touches only the lines it must.", []step{
		{args: []string{"add", "saltmarsh.example", "cam-north", "A", "198.51.100.31", "--now", demoNow}, want: []string{"+ cam-north", "2026112302"}},
		{args: []string{"change", "saltmarsh.example", "cam-south", "A", "198.51.100.44", "--now", demoNow}, want: []string{"lens replaced in October", "2026112303"}},
		{say: "An edit that would break the zone is refused, and nothing is written.",
			args: []string{"add", "saltmarsh.example", "www", "A", "198.51.100.99"}, status: 1, want: []string{"alias-beside-data", "nothing was changed"}},
	}},
	{"The pasted file", "A colleague mails a zone. All its mistakes come in one go, each with what to write instead.", []step{
		{args: []string{"check", "estuary.example.zone"}, status: 1, lines: 36,
			want: []string{"unknown-directive", "unclosed-parenthesis", "address-leading-zero", "address-as-name", "missing-final-dot", "outside-zone", "mx.harbour.example.estuary.example."}},
		{args: []string{"explain", "address-leading-zero"}, want: []string{"octal"}},
	}},
	{"Signing", "A key, a signature over every set of records, and the proof that all of it holds.", []step{
		{args: []string{"key", "new", "saltmarsh.example"}, want: []string{"made key"}},
		{args: []string{"sign", "saltmarsh.example", "-o", "signed.zone"}, want: []string{"signed saltmarsh.example"}},
		{args: []string{"verify", "signed.zone"}, want: []string{"proved"}},
		{say: "One flipped character, and the proof fails.", do: tamper},
		{args: []string{"verify", "tampered.zone"}, status: 1, want: []string{"bad-signature"}},
		{say: "What the registrar's form wants to know:", args: []string{"handover", "saltmarsh.example"}, want: []string{"key tag", "198.51.100.53"}},
	}},
	{"Publishing", "Two servers: the observatory's, and the harbour's, which fetches the zones with a shared secret.", []step{
		{args: []string{"serve"}, serve: true},
		{in: "harbour", args: []string{"serve"}, serve: true},
		{args: []string{"secondaries", "saltmarsh.example"}, wait: patience, want: []string{"both servers are in sync"}},
		{in: "harbour", args: []string{"status"}, want: []string{"secondary", "until then it answers without its primary"}},
		{say: "A stranger without the secret gets nothing.",
			args: []string{"ask", "saltmarsh.example", "AXFR", "--transport", "tcp", "--at", "{observatory}"}, status: 1, want: []string{"refuses"}},
	}},
	{"A change reaches the harbour", "Edit, reload: the harbour is told and follows at once.", []step{
		{args: []string{"change", "gauges.saltmarsh.example", "gauge02", "A", "198.51.100.172", "--now", demoNow}, want: []string{"2026112302"}},
		{args: []string{"reload"}, want: []string{"loaded", "2026112302"}},
		{args: []string{"secondaries", "gauges.saltmarsh.example"}, wait: patience, want: []string{"in sync with serial 2026112302"}},
		{args: []string{"ask", "gauge02.gauges.saltmarsh.example", "--at", "{harbour}"}, want: []string{"198.51.100.172"}},
	}},
	{"Mistakes stay at home", "A slip of the editor, and a serial that was forgotten: the good version stays in service.", []step{
		{do: slip("gauge03         A      198.51.100.73", "gauge03         A      198.51.100.733")},
		{args: []string{"reload"}, status: 1, want: []string{"kept", "733 is over 255"}},
		{do: slip("198.51.100.733", "198.51.100.93")},
		{args: []string{"reload"}, status: 1, want: []string{"kept", "the serial is still 2026112302"}},
		{args: []string{"serial", "gauges.saltmarsh.example", "--next", "--now", demoNow}, want: []string{"2026112303"}},
		{args: []string{"reload"}, want: []string{"loaded", "2026112303"}},
	}},
	{"Back again", "The new address of the gauge was wrong after all. Every version that was served is kept, with who made it.", []step{
		{args: []string{"history", "gauges.saltmarsh.example"}, want: []string{"2026112303", "2026112302"}},
		{args: []string{"history", "gauges.saltmarsh.example", "--show", "2026112303"}, want: []string{"gauge03", "198.51.100.93"}},
		{say: "The way back is a new version, for secondaries only go forward. What people wrote stays as it was.",
			args: []string{"restore", "gauges.saltmarsh.example", "2026112302", "--reload", "--now", demoNow}, want: []string{"198.51.100.73", "loaded", "2026112304"}},
		{args: []string{"secondaries", "gauges.saltmarsh.example"}, wait: patience, want: []string{"in sync with serial 2026112304"}},
		{in: "harbour", args: []string{"history", "gauges.saltmarsh.example"}, want: []string{"transfer"}},
	}},
	{"One safe step", "What must be answered is stated beside the zone. Publishing goes through it, from the edited file to the secondary.", []step{
		{args: []string{"expect", "--record", "gauges.saltmarsh.example"}, want: []string{"wrote"}},
		{args: []string{"change", "gauges.saltmarsh.example", "gauge02", "A", "198.51.100.199", "--now", demoNow}, want: []string{"2026112305"}},
		{say: "An expectation does not hold of the new file: nothing is published.",
			args: []string{"publish", "gauges.saltmarsh.example"}, status: 1, want: []string{"fail; nothing was changed", "gauge02 A is 198.51.100.172"}},
		{say: "The move was meant. The expectation is put right, and it goes through.", do: meant},
		{args: []string{"publish", "gauges.saltmarsh.example", "--now", demoNow}, wait: patience, want: []string{"harbour in sync with serial 2026112305", "published"}},
	}},
	{"A buoy drifts", "Buoys change their own addresses by messages, each key what was granted to it. Ines goes on editing the file, and neither loses what the other did.", []step{
		{args: []string{"change", "buoys.example", "north", "A", "203.0.113.107", "--at", "{observatory}", "--key", "buoys-2026"}, want: []string{"+ north", "updated at"}},
		{args: []string{"add", "buoys.example", "north", "TXT", "adrift", "--at", "{observatory}", "--key", "buoys-2026"}, status: 3, want: []string{"may not"}},
		{args: []string{"add", "buoys.example", "west", "A", "198.51.100.109", "--reload", "--now", demoNow}, want: []string{"loaded"}},
		{args: []string{"pending", "buoys.example"}, want: []string{"north", "key buoys-2026"}},
		{say: "It goes into the file when somebody wants it there, in the file's own style.",
			args: []string{"fold", "buoys.example"}, want: []string{"painted red", "unchanged"}},
		{args: []string{"secondaries", "buoys.example"}, wait: patience, want: []string{"in sync"}},
	}},
	{"Inside and outside", "Those inside have answers of their own, in a file beside the other; what all see is written once.", []step{
		{args: []string{"new", "saltmarsh.example", "--audience", "inside", "--network", "192.0.2.0/24", "--now", demoNow}, lines: 10, want: []string{"saltmarsh.example@inside.zone"}},
		{args: []string{"add", "saltmarsh.example@inside", "printer", "A", "192.0.2.90", "--now", demoNow}, want: []string{"printer"}},
		{args: []string{"reload"}, want: []string{"saltmarsh.example@inside"}},
		{args: []string{"ask", "printer.saltmarsh.example", "--as-from", "192.0.2.7"}, want: []string{"the audience inside", "192.0.2.90"}},
		{args: []string{"ask", "printer.saltmarsh.example", "--at", "{observatory}"}, want: []string{"NXDOMAIN"}},
	}},
	{"What does the world see?", "Answers from servers, and from the file before anybody serves it, with the reason.", []step{
		{args: []string{"ask", "www.saltmarsh.example", "A", "--at", "{harbour}", "--dnssec"}, want: []string{"RRSIG", "authoritative"}},
		{args: []string{"ask", "heron.birds.saltmarsh.example", "--zone", "saltmarsh.example"}, want: []string{"wildcard *.birds.saltmarsh.example."}},
		{args: []string{"ask", "gauge01.gauges.saltmarsh.example", "--zone", "saltmarsh.example"}, want: []string{"delegated to other servers"}},
		{args: []string{"ask", "cam-west.saltmarsh.example", "--zone", "saltmarsh.example"}, want: []string{"does not exist"}},
		{args: []string{"status"}, want: []string{"signatures are valid until", "harbour"}},
	}},
	{"The chain of trust", "The servers start again with a clock that is played, beside a stand-in for the registry. The DS is asked for when the signed zone has reached all servers and caches, and not before.", []step{
		{stop: "all"},
		{args: []string{"serve", "--now", "{+0h}"}, serve: true},
		{in: "harbour", args: []string{"serve", "--now", "{+0h}"}, serve: true},
		{in: "registry", args: []string{"serve", "--now", "{+0h}"}, serve: true},
		{args: []string{"roll", "step", "saltmarsh.example", "--now", "{+5m}"}, wait: patience, want: []string{"sign the zone", "every server shows it"}},
		{args: []string{"roll", "step", "saltmarsh.example", "--now", "{+26h}"}, want: []string{"it has no DS of key"}},
		{say: "The registry reads the zone's CDS records. The first time it has to be told to believe them.",
			in: "registry", args: []string{"delegate", "example", "saltmarsh.example", "--follow", "--first", "--now", "{+26h}"}, wait: patience, want: []string{"DS", "wrote"}},
		{in: "registry", args: []string{"reload"}, want: []string{"loaded"}},
		{args: []string{"handover", "saltmarsh.example", "--confirm", "--now", "{+26h}"}, want: []string{"the parent serves all of it"}},
		{args: []string{"roll", "step", "saltmarsh.example", "--now", "{+27h}"}, lines: 4, want: []string{"no rollover is under way"}},
	}},
	{"The roll", "The key is replaced. The harbour goes down in the middle: the roll waits for what it can see, not for a timer.", []step{
		{stop: "harbour"},
		{args: []string{"roll", "start", "saltmarsh.example"}, lines: 8, want: []string{"publish the new keys"}},
		{args: []string{"roll", "step", "saltmarsh.example", "--now", "{+60h}"}, want: []string{"nothing has been seen of harbour"}},
		{say: "The old key is still needed:", args: []string{"key", "delete", "saltmarsh.example", "{key}"}, status: 3, want: []string{"refused"}},
		{say: "The harbour is back.", in: "harbour", args: []string{"serve", "--now", "{+60h}"}, serve: true},
		{args: []string{"roll", "step", "saltmarsh.example", "--now", "{+61h}"}, wait: patience, lines: 12, want: []string{"every server shows it"}},
		{args: []string{"roll", "step", "saltmarsh.example", "--now", "{+90h}"}, lines: 12, want: []string{"change the DS at the parent"}},
	}},
	{"From outside", "A stand-in Internet on loopback: root, registry, and the servers of all, under addresses of their own. The instrument team serves its zone, and nobody had it delegated.", []step{
		{in: "outside", do: storm("no-delegation", "gauges.saltmarsh.example", "ns.harbour.example")},
		{in: "outside", args: []string{"demo", "world", "world.toml", "--into", "."}, serve: true},
		{in: "outside", do: ownZones},
		{in: "outside", args: []string{"trace", "north.gauges.saltmarsh.example"}, status: 1, want: []string{"delegation-missing", "gauges.saltmarsh.example. 3600 NS", "fencepost delegate saltmarsh.example gauges"}},
		{stop: "outside"},
		{say: "It is delegated now, with the DS of a key that it had before.", in: "outside", do: storm("old-ds", "gauges.saltmarsh.example", "")},
		{in: "outside", args: []string{"demo", "world", "world.toml", "--into", "."}, serve: true},
		{in: "outside", args: []string{"chain", "north.gauges.saltmarsh.example"}, status: 1, want: []string{"bogus", "matches no key", "fencepost handover gauges.saltmarsh.example"}},
		{stop: "outside"},
		{say: "With the right DS every link holds.", in: "outside", do: storm("", "", "")},
		{in: "outside", args: []string{"demo", "world", "world.toml", "--into", "."}, serve: true},
		{in: "outside", args: []string{"chain", "north.gauges.saltmarsh.example"}, lines: 6, want: []string{"secure", "every link holds"}},
		{in: "outside", args: []string{"trace", "cams.saltmarsh.example"}, lines: 8, want: []string{"target  cams.harbour.example", "found  A 203.0.113.90"}},
		{say: "The health of a whole delegation, by more than a hundred tests. With --format html it is a page to send around.", in: "outside", args: []string{"audit", "saltmarsh.example"}, want: []string{"tests", "DNSSEC", "passed"}},
		{in: "outside", args: []string{"audit", "island.example"}, lines: 12, want: []string{"servers-in-one-network", "→"}},
	}},
}

// storm writes the demo's world with a fault of a zone. lame, if it is not empty, is a server that
// does not have the zone.
func storm(kind, zone, lame string) func(*teller, string) error {
	return func(_ *teller, dir string) error {
		text := string(worlds.Demo)
		if kind != "" {
			text += fmt.Sprintf("\n[[fault]]\nkind = %q\nzone = %q\n", kind, zone)
		}
		if lame != "" {
			text += fmt.Sprintf("\n[[fault]]\nkind = \"refuses\"\nserver = %q\nzone = %q\n", lame, zone)
		}
		return os.WriteFile(filepath.Join(dir, "world.toml"), []byte(text), 0o644)
	}
}

// ownZones gives the workspace that looks on the zones of the observatory, as they are written.
func ownZones(_ *teller, dir string) error {
	files := map[string]string{
		"saltmarsh.example":        "$TTL 3600\n@ SOA ns1 hostmaster 2026112801 7200 900 1209600 300\n@ NS ns1\n@ NS ns.harbour.example.\nns1 A 198.51.100.53\n",
		"gauges.saltmarsh.example": "$TTL 3600\n@ SOA ns hostmaster 1 7200 900 1209600 300\n@ NS ns\n@ NS ns.harbour.example.\nns A 198.51.100.61\nnorth A 198.51.100.101\n",
	}
	config, err := os.ReadFile(filepath.Join(dir, "fencepost.toml"))
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		config = fmt.Appendf(config, "\n[[zone]]\nname = %q\n", name)
		if err := os.WriteFile(filepath.Join(dir, "zones", name+".zone"), []byte(files[name]), 0o644); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(dir, "fencepost.toml"), config, 0o644)
}

// meant puts the expectations right about the gauge that moved.
func meant(_ *teller, dir string) error {
	path := filepath.Join(dir, "expect", "gauges.saltmarsh.example.expect")
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, bytes.Replace(text, []byte("198.51.100.172"), []byte("198.51.100.199"), 1), 0o644)
}

// demoNow is the clock of the edits, so that the serials come out as told.
const demoNow = "2026-11-23T09:00:00Z"

// tamper changes one character of a signed record.
func tamper(t *teller, dir string) error {
	text, err := os.ReadFile(filepath.Join(dir, "signed.zone"))
	if err != nil {
		return err
	}
	changed := bytes.Replace(text, []byte("IN\tA\t198.51.100.25"), []byte("IN\tA\t198.51.100.26"), 1)
	if bytes.Equal(text, changed) {
		return fmt.Errorf("the signed zone does not hold the address to be changed")
	}
	return os.WriteFile(filepath.Join(dir, "tampered.zone"), changed, 0o644)
}

// slip edits the gauges' zone as a person in a hurry would.
func slip(from, to string) func(*teller, string) error {
	return func(t *teller, dir string) error {
		path := filepath.Join(dir, "zones", "gauges.saltmarsh.example.zone")
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		t.say("\n%s\n", t.paint("2", fmt.Sprintf("(an editor: %s  becomes  %s)", from, to)))
		return os.WriteFile(path, bytes.Replace(text, []byte(from), []byte(to), 1), 0o644)
	}
}
