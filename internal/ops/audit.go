package ops

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"fencepost/audit"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/resolve"
	"fencepost/wholefile"
)

// AuditOptions of Audit.
type AuditOptions struct {
	Zone string
	// AsIf are servers, NAME or NAME=ADDRESS[,ADDRESS], that the zone will be delegated to.
	AsIf     []string
	Networks string // a file, see audit.ParseNetworks; empty: none
	Timeout  time.Duration
	Step     func(what string)
}

// Audited is a report, and where the anchors are from that its chain begins with.
type Audited struct {
	*audit.Report
	Anchors string
}

// Audit looks at a delegation from outside.
func (a *App) Audit(ctx context.Context, o AuditOptions) (*Audited, error) {
	name, err := edit.WholeName(o.Zone)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", o.Zone, err)
	}
	t := a.tracer(o.Timeout)
	t.Known = nil // what is at hand is no part of what the world sees
	au := &audit.Auditor{Tracer: t, Walker: walkerOf(t), Now: a.Now(), Step: o.Step}
	trusted := &TrustChain{Now: au.Now}
	if au.Anchors, err = a.chainAnchors("", trusted); err != nil {
		return nil, err
	}
	if au.AsIf, err = asIf(ctx, t, name, o.AsIf); err != nil {
		return nil, err
	}
	if o.Networks != "" {
		text, err := wholefile.Read(o.Networks, 64<<20)
		if err != nil {
			return nil, err
		}
		if au.Networks, err = audit.ParseNetworks(text); err != nil {
			return nil, fmt.Errorf("%s: %w", edit.Shown(o.Networks), err)
		}
	}
	r, err := au.Audit(ctx, name)
	if err != nil {
		return nil, err
	}
	return &Audited{r, trusted.Anchors}, nil
}

// asIf are servers as they are given.
func asIf(ctx context.Context, t *resolve.Tracer, zone dnsname.Name, list []string) (out []resolve.Host, err error) {
	for _, s := range list {
		host, addrs, given := strings.Cut(s, "=")
		name, err := dnsname.Parse(host, zone)
		if strings.Contains(host, ".") {
			name, err = edit.WholeName(host) // a name as people give it, with or without its final dot
		}
		if err != nil {
			return nil, edit.Usage("--as-if %q: %v", s, err)
		}
		h := resolve.Host{Name: name}
		if !given {
			if h.Addrs, err = t.Addresses(ctx, name); err != nil {
				return nil, edit.Usage("--as-if %s: its addresses cannot be found (%v); give them: --as-if %s=ADDRESS", s, err, s)
			}
		} else {
			for _, text := range strings.Split(addrs, ",") {
				ip, err := netip.ParseAddr(strings.TrimSpace(text))
				if err != nil {
					return nil, edit.Usage("--as-if %s: %q is not an address", s, text)
				}
				h.Addrs = append(h.Addrs, netip.AddrPortFrom(ip, resolve.Port))
			}
		}
		out = append(out, h)
	}
	return out, nil
}

// AuditFindings says whether an audit found something of a severity, or graver.
func AuditFindings(r *audit.Report, failOn string) error {
	s, ok := diag.ParseSeverity(failOn)
	if !ok || s == diag.Off {
		return edit.Usage("--fail-on %q: it is error, warning or note", failOn)
	}
	if r != nil && r.Worst() <= s {
		return fmt.Errorf("%s: %w", r.Facts.Zone.Plain(), edit.ErrFindings)
	}
	return nil
}
