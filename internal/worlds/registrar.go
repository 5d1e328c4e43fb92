package worlds

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Forms and answers of a registrar.
const (
	formSuffix   = ".txt"
	answerSuffix = ".answer"
	lookEvery    = 300 * time.Millisecond
	maxForm      = 1 << 20
)

// Registrar stands in for a registrar's form: what is put into dir as CHILD.txt, as handover
// prints it, is entered in the zone above, and CHILD.answer says what came of it. told hears the
// same. It goes on until ctx is done.
func (p *World) Registrar(ctx context.Context, dir string, told func(string)) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	seen := map[string]time.Time{}
	for {
		forms, err := filepath.Glob(filepath.Join(dir, "*"+formSuffix))
		if err != nil {
			return err
		}
		for _, form := range forms {
			info, err := os.Stat(form)
			if err != nil || info.ModTime().Equal(seen[form]) || time.Since(info.ModTime()) < lookEvery { // it is being written
				continue
			}
			seen[form] = info.ModTime()
			answer := p.take(form)
			told(answer)
			if err := wholefile.Write(strings.TrimSuffix(form, formSuffix)+answerSuffix, []byte(answer+"\n"), 0o644); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(lookEvery):
		}
	}
}

// take enters what a form says, and gives the answer.
func (p *World) take(form string) string {
	name := strings.TrimSuffix(filepath.Base(form), formSuffix)
	refused := func(err error) string { return fmt.Sprintf("%s: %v", name, err) }
	child, err := dnsname.Parse(name, dnsname.Root)
	if err != nil {
		return refused(err)
	}
	text, err := wholefile.Read(form, maxForm)
	if err != nil {
		return refused(err)
	}
	records, err := formRecords(text)
	if err == nil {
		err = p.Enter(child, records)
	}
	if err != nil {
		return refused(err)
	}
	return fmt.Sprintf("%s: entered, %d records", name, len(records))
}

// formRecords are the records in a text: lines of a master file with all their fields, owner, TTL,
// class, type, data. Whatever else stands in it is for people.
func formRecords(text []byte) (out []rr.Record, err error) {
	lines := bufio.NewScanner(strings.NewReader(string(text)))
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) < 5 || words[2] != "IN" {
			continue
		}
		r, err := formRecord(strings.Join(words, " "))
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, errors.New("it has no records; put in what fencepost handover prints")
	}
	return out, nil
}

func formRecord(line string) (r rr.Record, err error) {
	var src source.Set
	var diags diag.List
	f, err := src.Add("", []byte(line+"\n"))
	if err != nil {
		return r, err
	}
	z := zonefile.Load(f, zonefile.Options{Origin: dnsname.Root}, &diags)
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			return r, fmt.Errorf("%q: %s", line, d.Message)
		}
	}
	if z == nil {
		return r, fmt.Errorf("%q is not a record", line)
	}
	var found bool
	for n := range z.Nodes {
		for set := range n.RRsets {
			r, found = record(z.Snapshot, n, set), true
		}
	}
	if !found {
		return r, fmt.Errorf("%q is not a record", line)
	}
	return r, nil
}

func record(z *zone.Snapshot, n *zone.Node, set zone.RRset) rr.Record {
	return rr.Record{Name: z.Owner(n), Type: set.Type, Class: rr.ClassIN, TTL: set.TTL, Data: append([]byte(nil), set.First()...)}
}
