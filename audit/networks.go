package audit

import (
	"bufio"
	"bytes"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// Networks say whose networks addresses lie in.
type Networks struct{ list []network }

type network struct {
	prefix netip.Prefix
	number uint32
	name   string
}

// ParseNetworks reads a table of networks: a line is a prefix, the number of the autonomous
// system that it belongs to, and if one likes a name; what begins with # is a comment. An
// error says which line.
func ParseNetworks(text []byte) (*Networks, error) {
	out := &Networks{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line, _, _ := strings.Cut(lines.Text(), "#")
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		if len(words) < 2 {
			return nil, fmt.Errorf("line %d: a network and the number of its autonomous system are expected, such as 198.51.100.0/24 64500", n)
		}
		prefix, err := netip.ParsePrefix(words[0])
		if err != nil {
			return nil, fmt.Errorf("line %d: %q is not a network: %w", n, words[0], err)
		}
		number, err := strconv.ParseUint(strings.TrimPrefix(strings.ToUpper(words[1]), "AS"), 10, 32)
		if err != nil {
			return nil, fmt.Errorf("line %d: %q is not a number of an autonomous system", n, words[1])
		}
		out.list = append(out.list, network{prefix.Masked(), uint32(number), strings.Join(words[2:], " ")})
	}
	return out, lines.Err()
}

// of is the system that an address belongs to, by the longest prefix.
func (n *Networks) of(a netip.Addr) (best network, known bool) {
	for _, w := range n.list {
		if w.prefix.Contains(a) && (!known || w.prefix.Bits() > best.prefix.Bits()) {
			best, known = w, true
		}
	}
	return best, known
}

func (w network) String() string {
	if w.name == "" {
		return fmt.Sprintf("AS%d", w.number)
	}
	return fmt.Sprintf("AS%d (%s)", w.number, w.name)
}
