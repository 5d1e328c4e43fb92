package app

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"net/netip"
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
	XMLName   xml.Name      `xml:"epp"`
	NS        string        `xml:"xmlns,attr"`
	Create    *eppHost      `xml:"command>create>host:create,omitempty"`
	Update    *eppDomain    `xml:"command>update>domain:update,omitempty"`
	Extension *eppExtension `xml:"command>extension>secDNS:update,omitempty"`
	ClientID  string        `xml:"command>clTRID"`
}

// eppHost makes a host object (RFC 5732 §3.2.1).
type eppHost struct {
	NS    string    `xml:"xmlns:host,attr"`
	Name  string    `xml:"host:name"`
	Addrs []eppAddr `xml:"host:addr"`
}

type eppAddr struct {
	Kind string `xml:"ip,attr"`
	IP   string `xml:",chardata"`
}

// eppDomain adds the name servers (RFC 5731 §3.2.5).
type eppDomain struct {
	NS    string   `xml:"xmlns:domain,attr"`
	Name  string   `xml:"domain:name"`
	Hosts []string `xml:"domain:add>domain:ns>domain:hostObj,omitempty"`
}

// eppExtension puts the DS in place of all that were there (RFC 5910 §5.2.5).
type eppExtension struct {
	NS  string  `xml:"xmlns:secDNS,attr"`
	All string  `xml:"secDNS:rem>secDNS:all"`
	DS  []eppDS `xml:"secDNS:add>secDNS:dsData,omitempty"`
}

type eppDS struct {
	KeyTag     uint16 `xml:"secDNS:keyTag"`
	Alg        uint8  `xml:"secDNS:alg"`
	DigestType uint8  `xml:"secDNS:digestType"`
	Digest     string `xml:"secDNS:digest"`
	Flags      uint16 `xml:"secDNS:keyData>secDNS:flags"`
	Protocol   uint8  `xml:"secDNS:keyData>secDNS:protocol"`
	KeyAlg     uint8  `xml:"secDNS:keyData>secDNS:alg"`
	PubKey     string `xml:"secDNS:keyData>secDNS:pubKey"`
}

// eppID names a command; at most 64 characters are allowed (RFC 5730 §2.5).
func eppID(n int) string { return "fencepost-" + strconv.Itoa(n+1) }

// EPP is the same as EPP commands, each a document: one to make each host in the
// zone, then one for the domain.
func (d *DelegationData) EPP() ([]byte, error) {
	domain := strings.ToLower(plainName(d.Zone))
	update := &eppDomain{NS: nsDomain, Name: domain}
	var docs []eppDoc
	for _, s := range d.Servers {
		host := strings.ToLower(strings.TrimSuffix(s.Name, "."))
		update.Hosts = append(update.Hosts, host)
		if len(s.Addresses) == 0 {
			continue
		}
		h := &eppHost{NS: nsHost, Name: host}
		for _, ip := range s.Addresses {
			kind := "v6"
			if netip.MustParseAddr(ip).Is4() {
				kind = "v4"
			}
			h.Addrs = append(h.Addrs, eppAddr{kind, ip})
		}
		docs = append(docs, eppDoc{NS: nsEPP, Create: h, ClientID: eppID(len(docs))})
	}
	sec := &eppExtension{NS: nsSecDNS, All: "true"}
	for _, k := range d.Keys {
		sec.DS = append(sec.DS, eppDS{k.KeyTag, k.Algorithm, k.DigestType, k.Digest, k.Flags, 3, k.Algorithm, base64.StdEncoding.EncodeToString(k.key.Data[4:])})
	}
	docs = append(docs, eppDoc{NS: nsEPP, Update: update, Extension: sec, ClientID: eppID(len(docs))})
	var b bytes.Buffer
	for _, doc := range docs {
		text, err := xml.MarshalIndent(doc, "", "  ")
		if err != nil {
			return nil, err
		}
		b.WriteString(`<?xml version="1.0" encoding="UTF-8" standalone="no"?>` + "\n")
		b.Write(text)
		b.WriteString("\n")
	}
	return b.Bytes(), nil
}
