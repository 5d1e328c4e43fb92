package ops

import (
	"fencepost/diag"
	"fencepost/zoneload"
)

// Rules of files as a whole.
var (
	RuleNoFile = &diag.Rule{Code: "missing-zone-file", Severity: diag.Error, Title: "a zone of the configuration has no file", Ref: "",
		Doc: "fencepost.toml lists a zone we are primary for, and zones/NAME.zone does not exist. Make it with `fencepost new NAME`."}
	RuleUnreadable = &diag.Rule{Code: "unreadable-zone-file", Severity: diag.Error, Title: "a zone file cannot be read", Ref: "",
		Doc: "The file is there, and this user may not read it, or it is not a regular file, or it is too large. What is served of the zone is the last good version."}
	RuleUnlisted = &diag.Rule{Code: "unlisted-zone-file", Severity: diag.Note, Title: "a zone file is not in the configuration", Ref: "",
		Doc: "The file is checked and not served: no [[zone]] section names it."}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{zoneload.RuleNoName, zoneload.RuleOtherZone, RuleNoFile, RuleUnreadable, RuleUnlisted, RuleSerialKept, RuleKeyMode, RuleKeysUnused, RuleKeysUnusable, RuleKeysHidden, RuleStoreDamaged, RuleTooShort, RuleOldSignatures, RuleZoneMode, RuleExpiresSoon, RuleFollowWeb}
