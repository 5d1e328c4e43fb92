package workspace

import (
	"time"
)

// History says what is kept of earlier versions of zones.
type History struct {
	Keep   time.Duration // 0: as long as Octets allows
	Octets int64         // of each zone
	// Git has the version control of the workspace asked who wrote a zone file.
	Git bool
}

// DefaultHistory is what is kept where nothing is said.
var DefaultHistory = History{Keep: 365 * 24 * time.Hour, Octets: 32 << 20}

type rawHistory struct {
	Keep    string `toml:"keep"`
	Size    string `toml:"size"`
	Authors string `toml:"authors"`
}

func (p *checker) history(c *Config, in *rawHistory) {
	const header = "[history]"
	c.History = DefaultHistory
	if in.Keep != "" {
		d, err := ParseSpan(in.Keep)
		if err != nil {
			p.diags.Add(RuleBadValue.At(p.place(header, 0, "keep"), "%v", err).Suggest("write a time such as 90d or 52w"))
		} else {
			c.History.Keep = d
		}
	}
	if in.Size != "" {
		n, err := ParseSize(in.Size)
		if err != nil {
			p.diags.Add(RuleBadValue.At(p.place(header, 0, "size"), "%v", err).Suggest("write a size such as 32MiB"))
		} else {
			c.History.Octets = n
		}
	}
	switch in.Authors {
	case "", "none":
	case "git":
		c.History.Git = true
	default:
		p.diags.Add(RuleBadValue.At(p.place(header, 0, "authors"), "%q is nothing that knows authors", in.Authors).Suggest("write none or git"))
	}
}
