package ops

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/workspace"
	"fencepost/zone"
)

// Remote says where an edit goes that is no edit of a file: as a message (RFC 2136).
type Remote struct {
	At       string // a server, the name of a peer, or Here
	Key      string // name of the secret; of Here none is needed
	FromHere bool   // the data are the address under which the server sees us
}

// Here is the running server of the workspace, which knows people by who they are.
const Here = "here"

// Kind is what an edit does.
type Kind uint8

// The kinds.
const (
	Adding Kind = iota
	Changing
	Removing
)

// Sent is an edit that was made at a server.
type Sent struct {
	Server netip.AddrPort
	Compared
	Done bool // else it was only looked at, or there was nothing to be done
}

// ErrMeanwhile means that a zone is no longer what an edit was made for.
var ErrMeanwhile = errors.New("it was changed meanwhile")

// Prepared is an edit that is ready to be sent.
type Prepared struct {
	Sent
	tcp       bool // it goes over a connection
	a         *App
	key       *tsig.Key
	here      bool // the server of the workspace is asked over its control socket
	old       *zone.Snapshot
	request   *update.Request
	questions []message.Question
}

// PrepareAt makes an edit of what a server answers, for it to be asked for there. There is no request
// where nothing is to be done.
func (a *App) PrepareAt(ctx context.Context, o edit.Edit, kind Kind, r Remote) (*Prepared, error) {
	if o.PTR || o.Zones != "" || o.Everywhere {
		return nil, edit.Usage("--ptr, --zones and --everywhere are about files: leave them out with --at")
	}
	text, audience := workspace.SplitAudience(o.Zone)
	if audience != "" {
		return nil, edit.Usage("which versions of a zone a message changes is a matter of its key (audience in [[grant]]): write %s, or edit the file without --at", text)
	}
	name, err := edit.WholeName(text)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", o.Zone, err)
	}
	p := &Prepared{a: a}
	at := r.At
	if p.here = r.At == Here; p.here {
		at = ""
		if r.Key != "" || r.FromHere {
			return nil, edit.Usage("the server of this workspace knows who you are: leave --key and --from-here out")
		}
	} else if r.Key == "" {
		return nil, edit.Usage("the key that signs the update is missing: --key NAME")
	} else if p.key, err = a.secret(r.Key); err != nil {
		return nil, err
	}
	servers, err := a.servers(ctx, at)
	if err != nil {
		return nil, err
	}
	p.tcp = r.FromHere // an address counts that cannot be made up
	if r.FromHere {
		if err := p.fromHere(ctx, name, servers, &o); err != nil {
			return nil, err
		}
	}
	if !p.Server.IsValid() {
		p.Server = servers[0]
	}
	if p.questions, err = questionsOf(name, &o); err != nil {
		return nil, err
	}
	if p.old, err = p.look(ctx, name); err != nil {
		return nil, err
	}
	after, err := a.editedCopy(p.old, o, kind, r)
	if err != nil {
		return nil, err
	}
	p.Compared = *compare(p.old, after, a.Now())
	if len(p.Changes) > 0 {
		p.request = update.FromDelta(p.old, zone.Diff(p.old, after), true)
	}
	return p, nil
}

// look is what a server answers for an edit, as a zone.
func (p *Prepared) look(ctx context.Context, name dnsname.Name) (*zone.Snapshot, error) {
	records, err := (&resolve.Asker{Net: p.a.Net}).ReadSome(ctx, p.Server, name, p.questions)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", p.Server, err)
	}
	if !slices.ContainsFunc(records, func(x rr.Record) bool { return x.Type == rr.TypeSOA && x.Name.Equal(name) }) {
		return nil, fmt.Errorf("%s does not answer for %s", p.Server, name.Plain())
	}
	return snapshotOf(name, withoutWild(records))
}

// withoutWild leaves out what a wildcard above answers: it is not there.
func withoutWild(records []rr.Record) []rr.Record {
	wild := map[string]bool{}
	id := func(above dnsname.Name, x *rr.Record) string {
		return above.Key() + x.Type.String() + string(rr.AppendFolded(nil, x.Type, x.Data))
	}
	for i := range records {
		if x := &records[i]; x.Name.IsWildcard() {
			wild[id(x.Name.Parent(), x)] = true
		}
	}
	return slices.DeleteFunc(records, func(x rr.Record) bool {
		if x.Name.IsWildcard() {
			return false
		}
		for n := x.Name; n.Labels() > 0; {
			if n = n.Parent(); wild[id(n, &x)] {
				return true
			}
		}
		return false
	})
}

// lessUsual are types that a name may have besides the usual ones.
var lessUsual = []rr.Type{rr.TypeSVCB, rr.TypeTLSA, rr.TypeSSHFP, rr.TypeDNAME, rr.TypeDS, rr.TypeNAPTR}

// questionsOf are what has to be known for an edit.
func questionsOf(name dnsname.Name, o *edit.Edit) (out []message.Question, err error) {
	add := func(n dnsname.Name, types ...rr.Type) {
		for _, t := range types {
			out = append(out, message.Question{Name: n, Type: t, Class: rr.ClassIN})
		}
	}
	add(name, rr.TypeSOA, rr.TypeNS)
	owners, err := o.Owners(name)
	if err != nil {
		return nil, err
	}
	for _, w := range owners {
		types := []rr.Type{w.Type, rr.TypeCNAME}
		if w.Type == 0 || w.Type == rr.TypeCNAME {
			types = append(slices.Clone(resolve.UsualTypes), lessUsual...)
		}
		add(w.Owner, types...)
		for n := w.Owner; n.Below(name); {
			n = n.Parent()
			if star, err := n.Child("*"); err == nil && !star.Equal(w.Owner) {
				add(star, types...)
			}
		}
	}
	return out, nil
}

// editedCopy makes an edit of a zone that is no file here, by the same rules.
func (a *App) editedCopy(old *zone.Snapshot, o edit.Edit, kind Kind, r Remote) (*zone.Snapshot, error) {
	dir, err := os.MkdirTemp("", "fencepost-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "answers.zone")
	var text bytes.Buffer
	soa, _ := old.Find(old.Apex(), rr.TypeSOA, 0)
	fmt.Fprintf(&text, "$ORIGIN %s\n$TTL %d\n", old.Apex(), soa.TTL)
	for n := range old.AllNodes {
		for set := range n.RRsets {
			for data := range set.Data {
				fmt.Fprintln(&text, rr.Record{Name: old.Owner(n), Type: set.Type, Class: rr.ClassIN, TTL: set.TTL, Data: data})
			}
		}
	}
	if err := edit.WriteFile(path, text.Bytes()); err != nil {
		return nil, err
	}
	o.Zone, o.Partial, o.Dry = path, true, true
	files := edit.Files{Now: a.Now}
	do := map[Kind]func(edit.Edit) (*edit.Edited, error){Adding: files.Add, Changing: files.Change, Removing: files.Remove}[kind]
	if r.FromHere {
		do = files.SetAddress
	}
	done, err := do(o)
	if err != nil {
		who := r.At
		if who == Here {
			who = "the running server"
		}
		return nil, &inAnswers{err, edit.Shown(path), "what " + who + " answers"}
	}
	if len(done.Files) == 0 {
		return old, nil
	}
	_, after := done.Files[0].Versions()
	return after, nil
}

// inAnswers is an error about what a server answers, which was looked at as a file.
type inAnswers struct {
	err        error
	path, what string
}

// Error names what was looked at in place of the file, without the line.
func (e *inAnswers) Error() string {
	return regexp.MustCompile(regexp.QuoteMeta(e.path)+`(:[0-9]+)*`).ReplaceAllLiteralString(e.err.Error(), e.what)
}

func (e *inAnswers) Unwrap() error { return e.err }

// fromHere finds out under which address a server sees us, of the kind that the records are of, and
// takes that for their data.
func (p *Prepared) fromHere(ctx context.Context, name dnsname.Name, servers []netip.AddrPort, o *edit.Edit) error {
	if len(o.Records) != 1 || len(o.Records[0].Data) > 0 {
		return edit.Usage("with --from-here say ZONE OWNER and A or AAAA, and no data")
	}
	t, err := edit.ParseType(o.Records[0].Type)
	if err != nil || t != rr.TypeA && t != rr.TypeAAAA {
		return edit.Usage("--from-here is about addresses: say A or AAAA")
	}
	for _, at := range servers {
		if at.Addr().Unmap().Is4() != (t == rr.TypeA) {
			continue
		}
		resp, err := resolve.Ask(ctx, at, resolve.Request{Net: p.a.Net, Name: name, Type: rr.TypeSOA, TSIG: p.key, Options: []message.Option{{Code: message.OptionAddress}}})
		if err != nil {
			return fmt.Errorf("asking %s: %w", at, err)
		}
		if resp.EDNS != nil {
			for _, opt := range resp.EDNS.Options {
				if seen, ok := netip.AddrFromSlice(opt.Data); ok && opt.Code == message.OptionAddress && seen.Is4() == (t == rr.TypeA) {
					o.Records[0].Data, p.Server = []string{seen.String()}, at
					return nil
				}
			}
		}
		return fmt.Errorf("%s does not say which address it sees: write the address instead of --from-here", at)
	}
	return edit.Usage("none of the server's addresses is of the kind of %s records: name one with --at", t)
}

// Send asks the server for the edit, and reads back what it made of it. The error wraps ErrMeanwhile
// where the zone is no longer what was looked at.
func (p *Prepared) Send(ctx context.Context) (*Sent, error) {
	if p.request == nil {
		return &p.Sent, nil
	}
	name := p.request.Zone
	no, err := p.change(ctx)
	if err != nil {
		return nil, err
	}
	if no != nil {
		return nil, p.refused(ctx, name, no)
	}
	now, err := p.look(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("it is done, and cannot be read back: %w", err)
	}
	p.Serial = now.Serial()
	for _, x := range p.request.Changes {
		if x.Class == rr.ClassIN && x.Type != rr.TypeSOA && !has(now, &x) {
			return nil, fmt.Errorf("%s accepted the update, and does not answer with %s %s: it was changed again, or the server answers from another version", p.Server, x.Name.Plain(), x.Type)
		}
	}
	p.Done = true
	return &p.Sent, nil
}

func has(z *zone.Snapshot, x *rr.Record) bool {
	set, _ := z.Find(x.Name, x.Type, 0)
	for data := range set.Data {
		if rr.SameData(x.Type, data, x.Data) {
			return true
		}
	}
	return false
}

// change asks for what was prepared; no is why it was not done.
func (p *Prepared) change(ctx context.Context) (no *update.Refusal, err error) {
	if p.here {
		c, err := p.a.Config()
		if err != nil {
			return nil, err
		}
		var out updateReply
		err = Client(c).Call(ctx, control.Request{Command: "update", Zone: p.request.Zone.String(), Args: control.Args(updateArgs{p.request.Append(nil, 0)})}, &out)
		if err != nil || out.Done {
			return nil, err
		}
		return &update.Refusal{Code: message.Rcode(out.Code), Why: out.Why}, nil
	}
	resp, err := resolve.Change(ctx, p.Server, p.request, resolve.Request{Net: p.a.Net, TSIG: p.key, TCP: p.tcp})
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", p.Server, err)
	}
	if resp.Rcode() == message.NoError {
		return nil, nil
	}
	no = &update.Refusal{Code: resp.Rcode(), Why: resp.Rcode().Description()}
	for _, e := range resp.EDNS.Errors() {
		if e.Text != "" {
			no.Why = e.Text
		}
	}
	return no, nil
}

// refused says why a server did not do what it was asked for.
func (p *Prepared) refused(ctx context.Context, name dnsname.Name, no *update.Refusal) error {
	if meanwhile[no.Code] {
		return p.changedMeanwhile(ctx, name, no.Error())
	}
	out := &update.RefusedError{Server: p.Server.String(), Refusal: no}
	if p.key != nil && !p.here {
		out.Key = p.key.Name.Plain()
	}
	return out
}

// meanwhile are the codes of prerequisites that are not met: the request has those alone that were so
// when we looked.
var meanwhile = map[message.Rcode]bool{message.YXDomain: true, message.YXRRSet: true, message.NXRRSet: true, message.NXDomain: true}

// changedMeanwhile says what became of what was looked at.
func (p *Prepared) changedMeanwhile(ctx context.Context, name dnsname.Name, text string) error {
	now, err := p.look(ctx, name)
	if err != nil {
		return fmt.Errorf("%w, nothing was done: %s", ErrMeanwhile, text)
	}
	var parts []string
	for _, ch := range compare(p.old, now, p.a.Now()).Changes {
		was, is := strings.Join(ch.Old, ", "), strings.Join(ch.New, ", ")
		switch {
		case was == "":
			was = "was not there"
		default:
			was = "had " + was
		}
		if is == "" {
			is = "nothing"
		}
		parts = append(parts, fmt.Sprintf("%s %s %s, and has %s now", strings.TrimSuffix(ch.Name, "."), ch.Type, was, is))
	}
	if len(parts) > 0 {
		text = strings.Join(parts, "; ")
	}
	return fmt.Errorf("%w, nothing was done: %s", ErrMeanwhile, text)
}
