package ops

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/edit"
	"fencepost/keyring"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// PublicRecords reads DNSKEY records from a file: a whole zone, or some lines.
func (a *App) PublicRecords(path string, origin dnsname.Name) ([][]byte, error) {
	src := &source.Set{}
	f, err := a.Reader().File(src, path)
	if err != nil {
		return nil, err
	}
	var diags diag.List
	var out [][]byte
	for _, e := range zonefile.Parse(f, zonefile.Options{Origin: origin}, &diags).Entries {
		if e.Kind == zonefile.Record && e.Type == rr.TypeDNSKEY {
			out = append(out, e.Data)
		}
	}
	if len(out) == 0 {
		out = shownKeys(string(f.Content))
	}
	if len(out) == 0 {
		return nil, edit.Usage("%s holds no DNSKEY record", edit.Shown(path))
	}
	return out, nil
}

// shownKeys are the DNSKEY records in what `ask` shows, which is for people and no
// master file: lines with headings between them.
func shownKeys(text string) (out [][]byte) {
	for _, line := range strings.Split(text, "\n") {
		words := strings.Fields(line)
		i := slices.Index(words, rr.TypeDNSKEY.String())
		if i < 1 {
			continue
		}
		if data, err := keyring.ParsePublicText(strings.Join(words[i+1:], " ")); err == nil {
			out = append(out, data)
		}
	}
	return out
}

// ExportKey writes a private key in a form, or its public half as record text.
func (a *App) ExportKey(zone, dir string, tag uint16, form string, passphrase, protect []byte) ([]byte, error) {
	ring, _, err := a.Keys(zone, dir)
	if err != nil {
		return nil, err
	}
	e := ring.ByTag(tag)
	if e == nil {
		return nil, noSuchKey(ring, tag)
	}
	record := func(t rr.Type, data []byte) []byte {
		r := rr.Record{Name: ring.Zone, Type: t, Class: rr.ClassIN, TTL: parentTTL, Data: data}
		return []byte(strings.ReplaceAll(r.String(), "\t", " ") + "\n")
	}
	switch form {
	case "dnskey":
		return record(rr.TypeDNSKEY, e.Public.Data), nil
	case "ds":
		return append(record(rr.TypeDS, dnssec.DS(ring.Zone, e.Public.Data, dnssec.DigestSHA256)), record(rr.TypeDS, dnssec.DS(ring.Zone, e.Public.Data, dnssec.DigestSHA384))...), nil
	}
	if e.Foreign {
		return nil, fmt.Errorf("key %d belongs to another operator: there is no private half here", tag)
	}
	if err := ring.Unlock(func(o *keyring.Entry) bool { return o == e }, passphrase); err != nil {
		return nil, err
	}
	text, err := keyring.Export(e.Private, keyring.Form(form), protect)
	if err != nil {
		return nil, edit.Usage("%v", err)
	}
	return text, nil
}
