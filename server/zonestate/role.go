package zonestate

// Role is what we are to a zone: where its content comes from, and whether we sign it.
type Role uint8

// The roles.
const (
	Primary         Role = iota // read from files, served as it is
	SigningPrimary              // read from files and signed
	Secondary                   // fetched, served as it is
	SignerInBetween             // fetched and signed
)

// roles are what the roles mean.
var roles = [...]struct {
	fetches, signs bool
	words          string
}{
	Primary:         {false, false, "primary"},
	SigningPrimary:  {false, true, "primary"},
	Secondary:       {true, false, "secondary"},
	SignerInBetween: {true, true, "secondary"},
}

// Fetches reports whether the content comes from primaries.
func (r Role) Fetches() bool { return roles[r].fetches }

// Signs reports whether we sign it.
func (r Role) Signs() bool { return roles[r].signs }

func (r Role) String() string { return roles[r].words }

// Role is our role by the configuration.
func (z *Zone) Role() Role {
	for r := range roles {
		if roles[r].fetches == (z.primaries() != nil) && roles[r].signs == (z.Signer != nil) {
			return Role(r)
		}
	}
	return Primary
}

// role is our role by the configuration in service.
func (z *zoneState) role() Role { return z.cfg.Load().Role() }
