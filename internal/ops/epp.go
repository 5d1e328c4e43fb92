package ops

import (
	"context"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Namespaces of EPP (RFC 5730, 5731, 5732, 5910).
const (
	nsEPP    = "urn:ietf:params:xml:ns:epp-1.0"
	nsDomain = "urn:ietf:params:xml:ns:domain-1.0"
	nsHost   = "urn:ietf:params:xml:ns:host-1.0"
	nsSecDNS = "urn:ietf:params:xml:ns:secDNS-1.1"
)

type eppDoc struct {
	XMLName   xml.Name       `xml:"epp"`
	NS        string         `xml:"xmlns,attr"`
	Note      xml.Comment    `xml:",comment"`
	Create    *eppHost       `xml:"command>create>host:create,omitempty"`
	Change    *eppHostUpdate `xml:"command>update>host:update,omitempty"`
	Update    *eppDomain     `xml:"command>update>domain:update,omitempty"`
	Extension *eppExtension  `xml:"command>extension>secDNS:update,omitempty"`
	ClientID  string         `xml:"command>clTRID"`
}

// eppHost makes a host object (RFC 5732 §3.2.1).
type eppHost struct {
	NS    string    `xml:"xmlns:host,attr"`
	Name  string    `xml:"host:name"`
	Addrs []eppAddr `xml:"host:addr"`
}

// eppHostUpdate changes the addresses of one (RFC 5732 §3.2.5).
type eppHostUpdate struct {
	NS   string    `xml:"xmlns:host,attr"`
	Name string    `xml:"host:name"`
	Add  *eppAddrs `xml:"host:add"` // nil where there is none: empty elements are errors
	Rem  *eppAddrs `xml:"host:rem"`
}

type eppAddrs struct {
	Addrs []eppAddr `xml:"host:addr"`
}

type eppAddr struct {
	Kind string `xml:"ip,attr"`
	IP   string `xml:",chardata"`
}

// eppDomain changes the name servers (RFC 5731 §3.2.5).
type eppDomain struct {
	NS   string    `xml:"xmlns:domain,attr"`
	Name string    `xml:"domain:name"`
	Add  *eppHosts `xml:"domain:add"`
	Rem  *eppHosts `xml:"domain:rem"`
}

type eppHosts struct {
	Names []string `xml:"domain:ns>domain:hostObj"`
}

// eppExtension changes the DS; what goes comes first (RFC 5910 §5.2.5).
type eppExtension struct {
	NS  string  `xml:"xmlns:secDNS,attr"`
	Rem *eppDSs `xml:"secDNS:rem"`
	Add *eppDSs `xml:"secDNS:add"`
}

type eppDSs struct {
	All string  `xml:"secDNS:all,omitempty"`
	DS  []eppDS `xml:"secDNS:dsData,omitempty"`
}

type eppDS struct {
	KeyTag     uint16  `xml:"secDNS:keyTag"`
	Alg        uint8   `xml:"secDNS:alg"`
	DigestType uint8   `xml:"secDNS:digestType"`
	Digest     string  `xml:"secDNS:digest"`
	Key        *eppKey `xml:"secDNS:keyData,omitempty"`
}

type eppKey struct {
	Flags    uint16 `xml:"secDNS:flags"`
	Protocol uint8  `xml:"secDNS:protocol"`
	Alg      uint8  `xml:"secDNS:alg"`
	PubKey   string `xml:"secDNS:pubKey"`
}

// EPPCommand is one command, a document of its own.
type EPPCommand struct {
	Name string // what it does, as the name of a file
	XML  []byte
}

// epp is what has to change at the parent as EPP commands, in their order: hosts in
// the zone first, then the domain. have is what the parent has now, as delegationAt
// says it; nil: that is not known.
func (d *DelegationData) epp(have map[string]bool) ([]EPPCommand, error) {
	known := have != nil
	have = maps.Clone(have)
	var withGlue []string // hosts that the parent has addresses of
	for key := range have {
		if rest, ok := strings.CutPrefix(key, "address "); ok {
			host, _, _ := strings.Cut(rest, " ")
			withGlue = append(withGlue, host)
		}
	}
	var docs []eppDoc
	var names []string
	add := func(name string, doc eppDoc) {
		doc.NS, doc.ClientID = nsEPP, "fencepost-"+strconv.Itoa(len(docs)+1) // at most 64 characters (RFC 5730 §2.5)
		names, docs = append(names, fmt.Sprintf("%d-%s.xml", len(docs)+1, name)), append(docs, doc)
	}
	domain := &eppDomain{NS: nsDomain, Name: strings.ToLower(d.Zone.Plain())}
	sec := &eppExtension{NS: nsSecDNS}
	hosts := map[string]*eppHostUpdate{}
	for _, f := range compareFields(d, have) {
		if f.State == "same" {
			continue
		}
		gone := f.State == "extra"
		switch f.Field {
		case "NS":
			to := side(gone, &domain.Add, &domain.Rem)
			to.Names = append(to.Names, strings.TrimSuffix(f.Value, "."))
		case "address":
			host, ip, _ := strings.Cut(f.Value, " ")
			if hosts[host] == nil {
				hosts[host] = &eppHostUpdate{NS: nsHost, Name: strings.TrimSuffix(host, ".")}
			}
			to := side(gone, &hosts[host].Add, &hosts[host].Rem)
			to.Addrs = append(to.Addrs, eppAddress(ip))
		case "DS":
			if gone || !d.NotYet {
				to := side(gone, &sec.Add, &sec.Rem)
				to.DS = append(to.DS, d.eppDSWithKey(f.Value))
			}
		}
	}
	for _, host := range slices.Sorted(maps.Keys(hosts)) {
		h := hosts[host]
		switch {
		case slices.Contains(withGlue, host):
			add("update-"+h.Name, eppDoc{Change: h})
		case h.Add != nil:
			add("create-"+h.Name, eppDoc{Create: &eppHost{nsHost, h.Name, h.Add.Addrs}})
		}
	}
	if !known && !d.NotYet {
		sec.Rem = &eppDSs{All: "true"} // in the place of whatever there is
	}
	if sec.Rem == nil && sec.Add == nil {
		sec = nil
	}
	if sec != nil || domain.Add != nil || domain.Rem != nil {
		add("update-"+domain.Name, eppDoc{Update: domain, Extension: sec})
	}
	var note []string
	note = append(note, d.Notes...)
	if !known {
		note = append(note, "what the parent has now is not known: this is for one that has nothing yet of it")
	}
	var out []EPPCommand
	for i := range docs {
		if len(note) > 0 {
			docs[i].Note = xml.Comment(strings.ReplaceAll(" "+strings.Join(note, "; ")+" ", "--", "- -"))
		}
		text, err := xml.MarshalIndent(docs[i], "", "  ")
		if err != nil {
			return nil, err
		}
		out = append(out, EPPCommand{names[i], slices.Concat([]byte(`<?xml version="1.0" encoding="UTF-8" standalone="no"?>`+"\n"), text, []byte("\n"))})
	}
	return out, nil
}

// side is where something is listed that comes or goes; it is made when needed.
func side[T any](gone bool, add, rem **T) *T {
	if gone {
		add = rem
	}
	if *add == nil {
		*add = new(T)
	}
	return *add
}

func eppAddress(ip string) eppAddr {
	if a, err := netip.ParseAddr(ip); err == nil && a.Is4() {
		return eppAddr{"v4", ip}
	}
	return eppAddr{"v6", ip}
}

// eppDSOf reads the text of DS data.
func eppDSOf(text string) (ds eppDS) {
	_, _ = fmt.Sscan(text, &ds.KeyTag, &ds.Alg, &ds.DigestType)
	ds.Digest = strings.ToUpper(strings.Join(strings.Fields(text)[3:], ""))
	return ds
}

// eppDSWithKey is that of one of our keys, with the key.
func (d *DelegationData) eppDSWithKey(text string) eppDS {
	ds := eppDSOf(text)
	for _, k := range d.Keys {
		if k.KeyTag == ds.KeyTag && k.DigestType == ds.DigestType && k.Digest == ds.Digest {
			ds.Key = &eppKey{k.Flags, 3, k.Algorithm, base64.StdEncoding.EncodeToString(k.key.Data[4:])}
		}
	}
	return ds
}

// EPP asks the parent what it has, and says as EPP commands what has to change.
func (a *App) EPP(ctx context.Context, d *DelegationData, at []string) ([]EPPCommand, error) {
	parents, err := a.parentServers(ctx, d.Zone, at)
	if err != nil && len(at) > 0 {
		return nil, err
	}
	var have map[string]bool
	var failed []error
	for _, p := range parents {
		got, err := a.delegationAt(ctx, d.Zone, p.Address)
		if err == nil {
			have = got
			break
		}
		failed = append(failed, fmt.Errorf("%s: %w", p, err))
	}
	if have == nil && len(failed) > 0 {
		return nil, fmt.Errorf("what the parent has now cannot be told: %w", errors.Join(failed...))
	}
	return d.epp(have)
}
