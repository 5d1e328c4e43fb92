package workspace

import (
	"fmt"
	"strconv"
	"strings"
)

// Limits bound what a server takes in.
type Limits struct {
	FetchedZone     int64 // octets of one zone that is fetched
	FetchedTogether int64 // octets that all transfers take while they last
}

// DefaultLimits are those where nothing is said. A zone takes about a quarter more memory than octets came.
var DefaultLimits = Limits{FetchedZone: 1 << 30, FetchedTogether: 2 << 30}

type rawLimits struct {
	FetchedZone     string `toml:"fetched-zone"`
	FetchedTogether string `toml:"fetched-together"`
}

func (p *checker) limits(c *Config, in *rawLimits) {
	c.Limits = DefaultLimits
	for _, l := range []struct {
		key, text string
		to        *int64
	}{{"fetched-zone", in.FetchedZone, &c.Limits.FetchedZone}, {"fetched-together", in.FetchedTogether, &c.Limits.FetchedTogether}} {
		if l.text == "" {
			continue
		}
		n, err := ParseSize(l.text)
		if err != nil {
			p.diags.Add(RuleBadValue.At(p.place("[limits]", 0, l.key), "%v", err).Suggest("write a size such as 500MiB or 2GiB"))
			continue
		}
		*l.to = n
	}
}

// ParseSize reads a number of octets: a number, and KiB, MiB or GiB behind it if wanted.
func ParseSize(text string) (int64, error) {
	digits, factor := text, int64(1)
	for i, unit := range []string{"KiB", "MiB", "GiB"} {
		if rest, ok := strings.CutSuffix(text, unit); ok {
			digits, factor = strings.TrimSpace(rest), 1<<(10*(i+1))
		}
	}
	n, err := strconv.ParseInt(digits, 10, 64)
	const most = 1 << 50
	if err != nil || n < 1 || n > most/factor {
		return 0, fmt.Errorf("%q is not a size", text)
	}
	return n * factor, nil
}
