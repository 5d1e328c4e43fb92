package audit

// Actor is who has to act on what a test finds.
type Actor uint8

// The actors.
const (
	ZoneOperator   Actor = iota // who writes the zone, and signs it
	ServerOperator              // who runs the server that it is about
	ParentOperator              // who runs the zone above
	Recipient                   // whoever the zone names for its mail or reports
	BothProviders               // the old one and the new one, in this order
)

// actors are the tests whose actor is not that of their area.
var actors = map[string]Actor{
	"parent-silent": ParentOperator, "parents-disagree": ParentOperator,
	"server-reverse-missing": ServerOperator, "server-reverse-elsewhere": ServerOperator,
	"soa-missing": ServerOperator, "signatures-bad-at-server": ServerOperator, "denial-unproved": ServerOperator,
	"mail-reverse-missing": Recipient, "dmarc-reports-refused": Recipient,
	"move-breaks-trust": BothProviders,
	// What servers hold that agree in it was written, and is mended, in the zone.
	"apex-is-alias": ZoneOperator, "zone-unreachable": ServerOperator, "server-without-address": ZoneOperator,
	"same-serial-other-content": ZoneOperator,
}

// Actor is who has to act on what a test finds.
func (t *Test) Actor() Actor {
	if a, known := actors[t.Code]; known {
		return a
	}
	if t.Area == Servers || t.Area == Behaviour {
		return ServerOperator
	}
	return ZoneOperator
}
