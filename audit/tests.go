package audit

import "slices"

// Tests is every test, in the order of a report.
var Tests = slices.Concat(delegationTests, serverTests, addressTests, oddTests(), zoneTests, mailTests, dnssecTests, recordTests())
