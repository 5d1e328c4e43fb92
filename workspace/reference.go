package workspace

import (
	"fmt"
	"strings"
)

// Setting is a key of fencepost.toml, for the reference and for did-you-mean.
type Setting struct {
	Key string
	// Value is a value as it would be written: the one that counts where the key is left
	// out or, if there is none, an example.
	Value    string
	Optional bool // Value is an example: without the key there is no such setting
	Doc      string
}

// Section is a section of fencepost.toml.
type Section struct {
	Header string
	Doc    string
	Keys   []Setting
}

// Sections are all sections and keys that fencepost.toml may have.
var Sections = []Section{
	{"[serial]", "serials, where a command raises them", []Setting{
		{"style", `"date"`, false, "date (YYYYMMDDnn), count (one more), clock (seconds since 1970)"},
	}},
	{"[serve]", "the server", []Setting{
		{"listen", `["127.0.0.1:5300", "[::1]:5300"]`, false, "addresses it answers on; 0.0.0.0 is every IPv4 address, [::] every IPv6 one"},
		{"control", `"state/control.sock"`, false, "socket by which commands reach it"},
		{"nsid", `"ns1"`, true, "the identity that the server tells (RFC 5001)"},
		{"id-server", `"ns1"`, true, "the answer to id.server TXT in class CH (RFC 4892); without it: refused"},
		{"version-server", `"Saltmarsh"`, true, "the answer to version.server TXT in class CH, likewise"},
	}},
	{"[limits]", "what a server takes in", []Setting{
		{"fetched-zone", `"1GiB"`, false, "most octets of one zone that is fetched; it takes a quarter more of memory"},
		{"fetched-together", `"2GiB"`, false, "most octets that all transfers take while they last"},
	}},
	{"[updates]", "changes of zones that come as messages (RFC 2136), by the grants below", []Setting{
		{"most-in-set", `500`, false, "most records of one type at a name, by the holders of keys"},
		{"most-at-name", `2000`, false, "most records at a name, likewise"},
		{"most-in-zone", `1000000`, false, "most records of the zone, likewise"},
		{"gather", `"20ms"`, false, "while many come: how long after a version they are gathered; 0s: not at all"},
	}},
	{"[[grant]]", "what the holder of a key may change by messages; one section each", []Setting{
		{"key", `"dhcp-2026"`, true, "name of the secret in secrets.toml"},
		{"zones", `["saltmarsh.example"]`, true, "in these zones"},
		{"names", `["buoy7"]`, true, "at these names; without names, below and own-name: at any"},
		{"below", `["visitors"]`, true, "at all names below these"},
		{"own-name", `false`, false, "at the name that the key is called by"},
		{"types", `["A", "AAAA"]`, true, "records of these types; left out: of any"},
		{"may", `["add", "remove"]`, false, "whether records may come, go or both"},
		{"own-address", `false`, false, "only addresses that the request comes from may come"},
		{"audience", `"inside"`, true, "in this audience's versions, or all; left out: in everyone's"},
	}},
	{"[[catalog]]", "a zone that lists others (RFC 9432); one section each", []Setting{
		{"name", `"catalog.saltmarsh.example"`, true, "its name; it has no file"},
		{"zones", `["*"]`, true, "which zones of this workspace it lists; * stands for anything"},
		{"send-to", `["harbour"]`, true, "peers that follow it"},
		{"fetch-from", `["harbour"]`, true, "follow it here: what it lists is served, and comes and goes with it"},
		{"members-from", `["harbour"]`, true, "where the zones come from that it lists; left out: as it does"},
		{"may-list", `["*.dunes.example"]`, true, "zones it may list, and no others, even below or above those configured here"},
	}},
	{"[group.NAME]", "how zones are served that a catalog lists as of this group", []Setting{
		{"send-to", `["harbour"]`, true, "peers that are told of changes and may transfer them"},
		{"check-digest", `"never"`, false, "of what is fetched, by ZONEMD: never, present, always"},
	}},
	{"[[follow]]", "addresses of a name that follow those of another, which is somewhere else", []Setting{
		{"zone", `"saltmarsh.example"`, true, "the zone"},
		{"owner", `"@"`, true, "the name in it; @ is the zone itself"},
		{"source", `"web.hosting.example"`, true, "the host whose addresses count"},
		{"resolvers", `["192.0.2.53"]`, true, "who is asked for them, one after another"},
		{"networks", `["198.51.100.0/24"]`, true, "in which they may be; left out: anywhere"},
		{"ttl", `300`, false, "TTL of the records, where there are none yet"},
		{"at-least", `"1m"`, false, "how long after one look the next is, at least"},
		{"at-most", `"5m"`, false, "and at most; between these the TTL of the source counts"},
	}},
	{"[[allow]]", "what others may have the running server do; one section each", []Setting{
		{"users", `["ines"]`, true, "these users of the machine, by name or number"},
		{"groups", `["dns"]`, true, "and those in these groups"},
		{"zones", `["saltmarsh.example"]`, true, "with these zones, * stands for anything; left out: all"},
		{"may", `["change", "reload"]`, true, "do this: change, sign, roll, reload, publish"},
	}},
	{"[history]", "what is kept of earlier versions of the zones", []Setting{
		{"keep", `"365d"`, false, "how long; 0d keeps what size allows"},
		{"size", `"32MiB"`, false, "most octets a zone, or as many as the zone has where that is more"},
		{"authors", `"none"`, false, "who wrote a file: none, or git to ask the version control"},
	}},
	{"[peer.NAME]", "another server that zones are exchanged with", []Setting{
		{"address", `"192.0.2.53:53"`, true, "where it is; port 53 where none is given"},
		{"tsig", `"harbour-2026"`, true, "name of the secret in secrets.toml; without one it is told by its address"},
		{"audience", `"inside"`, true, "versions for this audience are exchanged with it, not those for everyone"},
		{"tsig-also", `"harbour-2027"`, true, "another secret that counts as well, while one is changed for it"},
	}},
	{"[policy.NAME]", "a way to sign zones", []Setting{
		{"algorithm", `"ECDSAP256SHA256"`, false, "algorithm of the keys (RFC 8624)"},
		{"keys", `"single"`, false, "single: one key does all (CSK); split: a KSK and a ZSK"},
		{"bits", `2048`, true, "length of RSA keys"},
		{"denial", `"nsec"`, false, "proof of what does not exist: nsec or nsec3"},
		{"salt", `""`, false, "of NSEC3, in hexadecimal; none is best (RFC 9276)"},
		{"iterations", `0`, false, "of NSEC3; 0 is best (RFC 9276)"},
		{"opt-out", `false`, false, "with NSEC3: leave delegations without DS out"},
		{"zonemd", `["sha384"]`, true, "digests of the whole zone (RFC 8976): sha384, sha512"},
		{"digests", `[2]`, false, "DS digest types: 2 (SHA-256), 4 (SHA-384)"},
		{"valid-for", `"28d"`, false, "how long signatures are valid"},
		{"renew-before-end", `"15d"`, false, "how long before their end they are renewed: more than the SOA's expire"},
		{"spread-ends", `"2d"`, true, "by how much expiry times differ, to spread the renewals"},
		{"begin-before", `"1h"`, false, "how far back signatures begin, for clocks that are behind"},
		{"dnskey-ttl", `7200`, false, "TTL of the DNSKEY set, in seconds"},
		{"renew-key", `"730d"`, true, "how long a single key is used; left out: for ever"},
		{"renew-ksk", `"730d"`, true, "how long a KSK is used; left out: for ever"},
		{"renew-zsk", `"90d"`, true, "how long a ZSK is used; left out: for ever"},
		{"revoke", `false`, false, "others trust the keys themselves: revoke old ones (RFC 5011)"},
		{"margin", `"90m"`, false, "added to every wait of a rollover"},
		{"expect-servers", `"20m"`, false, "how long servers are expected to take, for forecasts"},
		{"expect-parent", `"3h"`, false, "how long the parent is expected to take, for forecasts"},
		{"cds", `"keep"`, false, "CDS and CDNSKEY records: keep, until-confirmed, never"},
		{"verify", `"sample"`, false, "check new signatures at once: sample or all"},
		{"keep-keys", `false`, false, "leave DNSKEY records of others in the zone: multi-signer (RFC 8901)"},
		{"passphrase-file", `"passphrase"`, true, "file of mode 0600 that opens protected keys"},
	}},
	{"[audience.NAME]", "askers with answers of their own (a view)", []Setting{
		{"networks", `["198.51.100.0/24", "2001:db8:40::/48"]`, true, "where they ask from"},
	}},
	{"[include]", "$INCLUDE", []Setting{
		{"from", `["../shared-parts"]`, true, "folders besides the zone file's own that may be read from"},
	}},
	{"[check]", "findings", []Setting{
		{"strict", `false`, false, "warnings count as errors"},
	}},
	{"[check.severity]", "severity of findings by code: error, warning, note, off", []Setting{
		{"CODE", `"note"`, true, "such as: ttl-units = \"off\""},
	}},
	{"[[check.allow]]", "a finding that is as it should be; one section each", []Setting{
		{"code", `"dangling-alias"`, true, "the finding"},
		{"zone", `"saltmarsh.example"`, true, "only in this zone"},
		{"name", `"old"`, true, "only at this name"},
		{"reason", `"the host comes back in spring"`, true, "why"},
	}},
	{"[trust]", "validating what `ask` is told", []Setting{
		{"anchors", `"root.ds"`, true, "file of DS or DNSKEY records that are trusted"},
		{"servers", `["192.0.2.1:53"]`, true, "servers of the zone that the anchors are of"},
	}},
	{"[address-override]", "where name servers are reached, if not at their public address", []Setting{
		{"HOST", `"127.0.0.1:5300"`, true, `by name or address of the server; "*" = "unreachable": no others but loopback`},
	}},
	{"[[zone]]", "a zone; one section each. Its file is zones/NAME.zone", []Setting{
		{"name", `"saltmarsh.example"`, true, "its name"},
		{"sign", `"standard"`, true, "the policy it is signed with; left out: unsigned"},
		{"send-to", `["harbour"]`, true, "peers that are told of changes and may transfer it"},
		{"fetch-from", `["harbour"]`, true, "its primaries: we are secondary, and it has no file here"},
		{"group", `"hosting"`, true, "its group in catalogs"},
		{"keep", `"file"`, false, "file; or store: messages change it, its file only begins it"},
		{"check-digest", `"never"`, false, "of what is fetched, by ZONEMD: never, present, always"},
		{"audiences", `["inside"]`, true, "views with a file of their own: zones/NAME@AUDIENCE.zone"},
		{"wait-for", `["harbour"]`, true, "servers a rollover waits for; left out: send-to; []: nobody"},
		{"parent", `["registry"]`, true, "peers that serve the parent; left out: asked of the system's resolver"},
		{"other-signers", `["south"]`, true, "peers that sign the zone too, each with keys of its own (RFC 8901)"},
		{"parent-takes", `"algorithms=8,13 digests=2"`, true, "what the parent's side supports, for handover"},
		{"follow-children", `false`, false, "apply CDS and CSYNC of signed children (RFC 7344, RFC 7477)"},
	}},
}

// settingNames are all words that mean something, for did-you-mean.
var settingNames = func() (out []string) {
	seen := map[string]bool{}
	add := func(word string) {
		if !seen[word] && strings.ToLower(word) == word {
			out, seen[word] = append(out, word), true
		}
	}
	for _, s := range Sections {
		for _, word := range strings.FieldsFunc(s.Header, func(r rune) bool { return strings.ContainsRune("[].", r) }) {
			add(word)
		}
		for _, k := range s.Keys {
			add(k.Key)
		}
	}
	return out
}()

// Reference is every section and key as a file with comments. What counts without
// being written stands in it as it is, examples after a comment sign.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Everything that fencepost.toml may hold. A value after a comment sign is an\n# example; others count where nothing else is written. Unknown keys are errors.\n")
	for _, s := range Sections {
		fmt.Fprintf(&b, "\n# %s\n%s\n", s.Doc, s.sample())
		for _, k := range s.Keys {
			b.WriteString(k.line(k.Optional || s.example()))
		}
	}
	return b.String()
}

// sample is the header with names in the place of words in capitals.
func (s *Section) sample() string {
	if s.example() {
		return "# " + s.Header
	}
	return strings.ReplaceAll(s.Header, "NAME", "standard")
}

// example tells that the section has no meaning without values of one's own.
func (s *Section) example() bool {
	for _, k := range s.Keys {
		if !k.Optional {
			return strings.HasPrefix(s.Header, "[[")
		}
	}
	return true
}

// lineWidth is how wide the reference is at most.
const lineWidth = 80

// Line is the key as a line of the file.
func (k *Setting) Line() string { return k.line(k.Optional) }

// line is the key with what it is as a comment behind it or, where that is too long,
// above it; an example is a comment too.
func (k *Setting) line(example bool) string {
	line := k.Key + " = " + k.Value
	if example {
		line = "# " + line
	}
	if wide := fmt.Sprintf("%-34s # %s\n", line, k.Doc); len(wide) <= lineWidth+1 {
		return wide
	}
	return "# " + k.Doc + ":\n" + line + "\n"
}

// Explained is a key with its section, for `explain`.
type Explained struct {
	Section *Section
	Setting *Setting // nil: the section as a whole
}

// ExplainSetting finds what a word means in fencepost.toml: a key, or a section with
// or without its brackets. There may be several.
func ExplainSetting(word string) (out []Explained) {
	word = strings.Trim(strings.ToLower(word), "[]")
	for i := range Sections {
		s := &Sections[i]
		header := strings.ToLower(strings.Trim(s.Header, "[]"))
		if plain, _, _ := strings.Cut(header, ".name"); word == header || word == plain {
			out = append(out, Explained{Section: s})
			continue
		}
		for j := range s.Keys {
			if k := &s.Keys[j]; k.Key == word {
				out = append(out, Explained{s, k})
			}
		}
	}
	return out
}
