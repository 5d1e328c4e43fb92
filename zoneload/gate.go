package zoneload

import (
	"fencepost/diag"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/zone"
)

// Version is a version of a zone that is in service, or may come into it.
type Version struct {
	Zone *zone.Snapshot
	// Delta is what it was made of the version before with; nil: it was read by itself.
	Delta *zone.Delta
	// Checks tells what of the next one has to be checked; nil: all.
	Checks *lint.CheckState
}

// smallZone is as many records as are checked again in less than a millisecond: nothing is
// remembered of such zones.
const smallZone = 1000

// Gate reads a text that is to come into service: only what keeps it out is looked for, and
// that only where the zone differs from the version before, if it can be told from there.
// settings may differ from those of the version before only if that has no Checks.
func (r *Reader) Gate(t Text, before Version, diags *diag.List) (out Version, err error) {
	z, err := r.Read(t, diags)
	if err != nil {
		return out, err
	}
	if !t.isWanted(z, diags) {
		return out, nil
	}
	out.Zone, out.Delta = zone.Share(before.Zone, z.Snapshot)
	readable := diags.Count(diag.Error) == 0
	if readable && out.Delta != nil && before.Checks != nil && before.Checks.Zone() == before.Zone {
		next := *z
		next.Built = &zone.Built{Snapshot: out.Zone, Conflicts: z.Conflicts}
		if out.Checks = before.Checks.After(&next, out.Delta, r.Now()); out.Checks != nil {
			return out, nil
		}
	}
	settings := forAudience(r.Settings, t.Path)
	cleared := lint.Clear(settings.Gating(checks.All), z, t.Source, r.Now(), diags)
	if cleared != nil && readable && out.Zone.Records() >= smallZone {
		out.Checks = cleared.As(out.Zone)
	}
	return out, nil
}
