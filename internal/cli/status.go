package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/server/zonestate"
)

// manyZones is from how many zones on those without trouble are only counted.
const manyZones = 50

func newStatus(e *env) *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "status [ZONE]", GroupID: stagePublish, Short: "what the running server does",
		Long: `Shows the zones of the running server, those with trouble first: what is wrong, since
when, for how long the zone can still be served, and what to do. With more than 50 zones
those without trouble are only counted; --all lists them. With ZONE everything about one.

Exit status: 0 no trouble, 1 trouble.`,
		Example: `  fencepost status
  fencepost status saltmarsh.example
  fencepost status --all
  fencepost status --format json | jq '.zones[] | select(.trouble)'`,
		Args: atMost("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var st control.Status
			if err := e.call(cmd.Context(), control.Request{Command: "status"}, &st); err != nil {
				return err
			}
			if len(args) > 0 {
				if err := oneZone(&st, args[0]); err != nil {
					return err
				}
			}
			if e.ui.JSON {
				if err := e.ui.Object(st); err != nil {
					return err
				}
			} else {
				e.status(&st, all || len(args) > 0)
			}
			if st.Secrets != "" || st.Unstored != "" || len(st.SetAside) > 0 || slices.ContainsFunc(st.Zones, func(z control.ZoneStatus) bool { return z.Trouble != zonestate.NoTrouble }) {
				return shown(edit.ErrFindings)
			}
			return nil
		}}
	cmd.Flags().BoolVar(&all, "all", false, "show every zone, also those without trouble")
	return cmd
}

// oneZone leaves one zone.
func oneZone(st *control.Status, zone string) error {
	name, err := edit.WholeName(zone)
	if err != nil {
		return usageError("%q is not a zone name: %v", zone, err)
	}
	i := slices.IndexFunc(st.Zones, func(z control.ZoneStatus) bool { return strings.EqualFold(z.Zone, name.String()) })
	if i < 0 {
		return fmt.Errorf("%s: %w", name, zonestate.ErrNoZone)
	}
	st.Zones = st.Zones[i : i+1]
	return nil
}

// gravity orders kinds of trouble: first what the world sees.
var gravity = map[zonestate.Trouble]int{zonestate.Visible: 0, zonestate.Ahead: 1, zonestate.Loading: 2, zonestate.NoTrouble: 3}

func (e *env) status(st *control.Status, all bool) {
	e.ui.Printf("running for %s on %s\n", ui.Duration(st.Now.Sub(st.Started)), strings.Join(st.Listen, ", "))
	e.ui.Printf("%s over UDP, %s over TCP, %s sent\n\n", ui.Plural(int(st.Questions), "query"), ui.Count(int(st.TCP)), ui.Plural(int(st.Transfers), "transfer"))
	if st.Secrets != "" {
		e.serverTrouble("some secrets are not there, and what needs one is not done: "+st.Secrets, "mend it, then: fencepost reload")
	}
	if st.Unstored != "" {
		e.serverTrouble("nothing can be stored: a restart would bring older versions back, and changes by messages are refused: "+st.Unstored, "make it possible to write there, and start the server again")
	}
	for _, path := range st.SetAside {
		e.serverTrouble(ops.StoreTrouble(path), ops.StoreCure(path))
	}
	slices.SortStableFunc(st.Zones, func(a, b control.ZoneStatus) int { return gravity[a.Trouble] - gravity[b.Trouble] })
	zones := st.Zones
	few := all || len(zones) <= manyZones
	if !few {
		n := slices.IndexFunc(zones, func(z control.ZoneStatus) bool { return gravity[z.Trouble] >= gravity[zonestate.Loading] })
		if n >= 0 {
			zones = zones[:n]
		}
	}
	if len(zones) > 0 {
		e.zoneTable(zones)
	}
	for i := range zones {
		if few || i < manyZones {
			e.zoneDetails(&zones[i], st.Now)
		}
	}
	if !few {
		e.summary(st.Zones)
	}
}

// serverTrouble says what is wrong with the server, whatever its zones are like, and what to do.
func (e *env) serverTrouble(what, next string) {
	e.ui.Printf("%s\n%s\n\n", e.ui.Fit(ui.Textf("%s %s", e.ui.Paint(ui.Bad, "error:"), what), 0), e.ui.Fit(ui.Textf("%s %s", e.ui.Paint(ui.Bold, "next:"), next), 0))
}

func (e *env) zoneTable(zones []control.ZoneStatus) {
	style := map[zonestate.Trouble]ui.Style{zonestate.Visible: ui.Bad, zonestate.Ahead: ui.Suspect, zonestate.Loading: ui.Suspect, zonestate.NoTrouble: ui.Good}
	var rows [][]ui.Text
	for i := range zones {
		z := &zones[i]
		serial := "-"
		if z.Serial != 0 {
			serial = fmt.Sprint(z.Serial)
		}
		signed := "unsigned"
		if z.Signed {
			signed = "signed"
		}
		state := z.State
		if z.Kept && z.Role == "primary" {
			state += ", last good version"
		}
		rows = append(rows, ui.Cells(shownZone(z.Zone, z.Audience), z.Role, e.ui.Paint(style[z.Trouble], "%s", state), serial, signed, ui.Count(z.Records)))
	}
	e.ui.Table([]string{"zone", "role", "state", ">serial", "dnssec", ">records"}, rows)
}

// summary counts zones.
func (e *env) summary(zones []control.ZoneStatus) {
	count := map[zonestate.Trouble]int{}
	for i := range zones {
		count[zones[i].Trouble]++
	}
	if count[zonestate.Visible]+count[zonestate.Ahead] > 0 {
		e.ui.Printf("\n")
	}
	e.ui.Printf("%s zones: %s well", ui.Count(len(zones)), e.ui.Paint(ui.Good, "%s", ui.Count(count[zonestate.NoTrouble])))
	if n := count[zonestate.Loading]; n > 0 {
		e.ui.Printf(", %s still to be loaded", e.ui.Paint(ui.Suspect, "%s", ui.Count(n)))
	}
	if n := count[zonestate.Ahead]; n > 0 {
		e.ui.Printf(", %s with trouble ahead", e.ui.Paint(ui.Suspect, "%s", ui.Count(n)))
	}
	if n := count[zonestate.Visible]; n > 0 {
		e.ui.Printf(", %s that the world sees something wrong with", e.ui.Paint(ui.Bad, "%s", ui.Count(n)))
	}
	e.ui.Printf("\n")
}

// zoneDetails says what there is to say about a zone beyond its row.
func (e *env) zoneDetails(z *control.ZoneStatus, now time.Time) {
	var lines []ui.Text
	say := func(format string, args ...any) { lines = append(lines, ui.Textf(format, args...)) }
	bad := func(format string, args ...any) {
		lines = append(lines, e.ui.Paint(ui.Bad, format, args...))
	}
	plain := shownZone(z.Zone, z.Audience)
	e.zoneTrouble(z, now, plain, bad)
	if z.Role == "secondary" && !z.Checked.IsZero() {
		say("from %s, confirmed %s", z.From, ui.When(z.Checked, now))
		say("next refresh %s", ui.When(z.NextCheck, now))
		if z.State == "serving" {
			say("expires %s: until then it answers without its primary", ui.When(z.Expires, now))
		}
	}
	zonePending(z, plain, say)
	switch {
	case z.Catalog != "":
		say("listed by the catalog %s", strings.TrimSuffix(z.Catalog, "."))
	case z.Members > 0:
		say("a catalog: %s served as it says", ui.Plural(z.Members, "zone"))
	}
	if z.Clashes != "" {
		bad("%s", z.Clashes)
	}
	e.zoneFollows(z, now, say)
	e.zoneChildren(z, now, say)
	e.zoneKeys(z, now, say, bad)
	for _, p := range z.Peers {
		switch {
		case p.Problem != "":
			say("%s", e.ui.Paint(ui.Suspect, "%s (%s): %s", p.Peer, p.Address, p.Problem))
		case p.Fetched:
			say("%s (%s) has fetched this version", p.Peer, p.Address)
		case p.Told:
			say("%s (%s) has been told of this version", p.Peer, p.Address)
		}
	}
	for i := range lines {
		lines[i] = e.ui.Fit(lines[i], 2)
	}
	if len(lines) > 0 {
		e.ui.Printf("\n%s\n  %s\n", e.ui.Paint(ui.Bold, "%s", plain), ui.Join(lines, "\n  "))
	}
}

// zoneTrouble says what is wrong, since when, and what to do.
func (e *env) zoneTrouble(z *control.ZoneStatus, now time.Time, plain string, bad func(string, ...any)) {
	since := ""
	if !z.Troubled.IsZero() {
		since = ", since " + ui.When(z.Troubled, now)
	}
	switch {
	case z.Problem == "":
	case z.Role == "secondary" && z.State == "serving":
		from := z.Failing
		if !z.Checked.IsZero() {
			from = z.Checked
		}
		bad("no primary reached since %s: %s", ui.When(from, now), z.Problem)
	case z.State != "serving":
		bad("nothing is answered for it%s: %s", since, z.Problem)
	default:
		bad("the last good version stays in service%s: %s", since, z.Problem)
	}
	if z.Warning != "" {
		bad("served as it came, but %s", z.Warning)
	}
	if z.NotStored != "" {
		bad("could not be stored: %s", z.NotStored)
		bad("until it can, a restart would bring an older version back, and changes by messages are refused")
	}
	if z.Problem != "" && z.Role == "primary" {
		bad("next: fix it, then: fencepost check %s && fencepost reload", plain)
	}
	if z.State == "expired" || z.Role == "secondary" && !z.Failing.IsZero() {
		bad("next: see why the primary is away, then: fencepost refresh %s", plain)
	}
}

// zoneFollows says how the names are doing whose addresses follow others.
func (e *env) zoneFollows(z *control.ZoneStatus, now time.Time, say func(string, ...any)) {
	for _, f := range z.Follows {
		owner, source := strings.TrimSuffix(f.Owner, "."), strings.TrimSuffix(f.Source, ".")
		switch {
		case f.Problem != "":
			say("%s", e.ui.Paint(ui.Suspect, "%s does not follow %s since %s and stays as it is: %s", owner, source, ui.When(f.Failing, now), f.Problem))
		case f.Checked.IsZero():
			say("%s follows %s: not looked yet", owner, source)
		default:
			say("%s follows %s, looked %s, next %s", owner, source, ui.When(f.Checked, now), ui.When(f.Next, now))
		}
	}
}

// childrenShown is how many children are shown whose requests are not followed.
const childrenShown = 10

// zoneChildren says which children ask for what they do not get.
func (e *env) zoneChildren(z *control.ZoneStatus, now time.Time, say func(string, ...any)) {
	for i, c := range z.Children {
		if i == childrenShown {
			say("and %s more whose requests are not followed; all: fencepost status --format json", ui.Count(len(z.Children)-i))
			return
		}
		say("%s", e.ui.Paint(ui.Suspect, "%s: not followed since %s: %s", c.Child, ui.When(c.Since, now), c.Problem))
	}
}

// zonePending says that the file does not have all that is served.
func zonePending(z *control.ZoneStatus, plain string, say func(string, ...any)) {
	if z.Pending > 0 {
		say("pending: %s changed by updates and not in the file; see: fencepost pending %s", ui.Plural(z.Pending, "record set"), plain)
	}
}

// zoneKeys says what there is to say about signatures and keys.
func (e *env) zoneKeys(z *control.ZoneStatus, now time.Time, say, bad func(string, ...any)) {
	if !z.Signatures.IsZero() {
		switch {
		case !now.Before(z.Signatures):
			bad("signatures have expired, the first %s: validating resolvers reject the zone", ui.When(z.Signatures, now))
		case z.Keys == nil && z.Problem == "" && z.Trouble == zonestate.NoTrouble:
			say("signatures are valid until %s; the signer of the zone renews them", ui.When(z.Signatures, now))
		case strings.HasPrefix(z.Problem, "signing: "):
			bad("signatures are valid until %s, and are not renewed while this lasts", ui.When(z.Signatures, now))
		case z.Renew.After(now):
			say("signatures are valid until %s, renewed %s", ui.When(z.Signatures, now), ui.When(z.Renew, now))
		default:
			bad("signatures end %s and have not been renewed", ui.When(z.Signatures, now))
		}
	}
	k := z.Keys
	if k == nil {
		return
	}
	if k.NextForDS != "" {
		tell := say
		if k.DSWrong {
			tell = bad
		}
		tell("the parent: %s", k.DS)
		tell("next: %s", k.NextForDS)
	} else if k.DS != "" {
		say("%s", k.DS)
	}
	if k.Rollover != "" {
		say("rollover: %s; step: %s", rolloverOf(k.Rollover), k.Step)
		for _, w := range k.Waits {
			if k.Stuck {
				bad("waits for: %s", w)
			} else {
				say("waits for: %s", w)
			}
		}
	}
}

// rolloverOf is what a rollover is of, behind the word itself: "emergency, all keys".
func rolloverOf(description string) string {
	return strings.TrimPrefix(strings.ReplaceAll(strings.ReplaceAll(" "+description, " rollover of", ","), " rollover", ""), ",")[1:]
}
