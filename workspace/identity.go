package workspace

// rawIdentity is what a server says of itself.
type rawIdentity struct {
	NSID    string `toml:"nsid"`
	ID      string `toml:"id-server"`
	Version string `toml:"version-server"`
}

// Most octets of what a server says of itself: the first goes into answers that have to be
// small, the others are one text of a TXT record (RFC 1035 §3.3).
const (
	maxNSID = 64
	maxText = 255
)

func (p *checker) identity(c *Config, in *rawIdentity) {
	c.NSID, c.Chaos = in.NSID, map[string]string{}
	p.short("nsid", in.NSID, maxNSID)
	for _, t := range []struct{ key, name, text string }{{"id-server", "id.server", in.ID}, {"version-server", "version.server", in.Version}} {
		p.short(t.key, t.text, maxText)
		if t.text != "" {
			c.Chaos[t.name] = t.text
		}
	}
}

// short tells where a text is longer than can be told.
func (p *checker) short(key, text string, most int) {
	if len(text) > most {
		p.diags.Add(RuleBadValue.At(p.place("[serve]", 0, key), "%s has %d octets; at most %d are told", key, len(text), most))
	}
}
