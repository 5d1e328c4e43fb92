package zonefile

import "fencepost/diag"

// Rules for the language of master files (RFC 1035 §5).
var (
	RuleUnknownDirective = &diag.Rule{Code: "unknown-directive", Severity: diag.Error,
		Title: "a directive is unknown", Ref: "RFC 1035 §5.1, RFC 2308 §4",
		Doc:  "The directives are $ORIGIN, $TTL and $INCLUDE, written with a dollar sign. Anything else at that place is most likely one of them, mistyped.",
		Bad:  "@TTL 3600\n",
		Good: "$TTL 3600\n"}
	RuleBadDirective = &diag.Rule{Code: "bad-directive", Severity: diag.Error,
		Title: "a directive has the wrong arguments", Ref: "RFC 1035 §5.1, RFC 2308 §4",
		Doc:  "$ORIGIN takes a name, $TTL a time, $INCLUDE a file and perhaps an origin.",
		Bad:  "$TTL\n",
		Good: "$TTL 3600\n"}
	RuleUnclosedParen = &diag.Rule{Code: "unclosed-parenthesis", Severity: diag.Error,
		Title: "a parenthesis is opened and never closed", Ref: "RFC 1035 §5.1",
		Doc: "A record continues over line ends from ( to ). Without the closing one it would swallow the rest of the file. " +
			"The place where it was opened is shown; the record is taken to end before the next line that begins at the left margin.",
		Bad:  "t TXT ( \"one\"\n    \"two\"\nu TXT \"three\"\n",
		Good: "t TXT ( \"one\"\n    \"two\" )\nu TXT \"three\"\n"}
	RuleUnopenedParen = &diag.Rule{Code: "unopened-parenthesis", Severity: diag.Error,
		Title: "a parenthesis is closed and was not opened", Ref: "RFC 1035 §5.1",
		Doc:  "Either the opening parenthesis was lost, or this one is too many. Inside a text, put the text in quotes.",
		Bad:  "t TXT \"one\" )\n",
		Good: "t TXT \"one\"\n"}
	RuleUnclosedQuote = &diag.Rule{Code: "unclosed-quote", Severity: diag.Error,
		Title: "a quote is opened and not closed on its line", Ref: "RFC 1035 §5.1",
		Doc:  `A quoted text ends on the line where it began. Add the closing quote; a quote inside the text is written \".`,
		Bad:  "t TXT \"one\nu TXT \"two\"\n",
		Good: "t TXT \"one\"\nu TXT \"two\"\n"}
	RuleInnerQuote = &diag.Rule{Code: "quote-within-text", Severity: diag.Warning,
		Title: "a quote stands within a text and ends it", Ref: "RFC 1035 §5.1",
		Doc:  `A text goes from one quote to the next. A quote that belongs to it is written \"; without the backslash the text falls apart into several.`,
		Bad:  "t TXT \"the \"old\" pier\"\n",
		Good: "t TXT \"the \\\"old\\\" pier\"\n"}
	RuleUnknownType = &diag.Rule{Code: "unknown-type", Severity: diag.Error,
		Title: "a record type is unknown", Ref: "RFC 1035 §5.2, RFC 3597 §5",
		Doc:  "After the owner come TTL and class, if any, and then the type. A type that has no name here is written TYPE and its number.",
		Bad:  "www AA 192.0.2.1\n",
		Good: "www A 192.0.2.1\n"}
	RuleMissingType = &diag.Rule{Code: "missing-type", Severity: diag.Error,
		Title: "a record ends before its type", Ref: "RFC 1035 §5.1",
		Doc:  "A record is: owner, perhaps TTL and class, type, data.",
		Bad:  "www 300 IN\n",
		Good: "www 300 IN A 192.0.2.1\n"}
	RuleTypeNotData = &diag.Rule{Code: "type-not-for-zones", Severity: diag.Error,
		Title: "a type that exists only in messages stands in a zone", Ref: "RFC 6895 §3.1",
		Doc:  "OPT, TSIG, AXFR, IXFR, ANY and the like are questions or parts of messages and cannot be data of a zone.",
		Bad:  "www ANY \\# 0\n",
		Good: "www A 192.0.2.1\n"}
	RuleWrongClass = &diag.Rule{Code: "wrong-class", Severity: diag.Error,
		Title: "a record is not of class IN", Ref: "RFC 1035 §5.2",
		Doc:  "All records of a zone have one class, and the zones served here are of class IN.",
		Bad:  "www CH A 192.0.2.1\n",
		Good: "www IN A 192.0.2.1\n"}
	RuleNoOwner = &diag.Rule{Code: "no-owner", Severity: diag.Error,
		Title: "the first record begins with a blank", Ref: "RFC 1035 §5.1",
		Doc:  "A line that begins with a blank takes the owner of the record before it. There is none yet: write the owner, @ for the zone itself.",
		Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n   A 192.0.2.1\n@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
		Good: "@ A 192.0.2.1\n"}
	RuleNoTTL = &diag.Rule{Code: "no-ttl", Severity: diag.Error,
		Title: "a record has no TTL and the file has no $TTL", Ref: "RFC 2308 §4, RFC 1035 §5.1",
		Doc:  "Write $TTL and a time in seconds at the head of the file, such as $TTL 3600.",
		Bad:  "-- bare --\n$ORIGIN example.com.\n@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
		Good: "$TTL 3600\nwww A 192.0.2.1\n"}
	RuleSOATTL = &diag.Rule{Code: "soa-without-ttl", Severity: diag.Warning,
		Title: "the SOA has no TTL, so its last number is used", Ref: "RFC 2308 §4",
		Doc:  "Without $TTL the SOA record's own TTL is a guess. Write $TTL at the head of the file.",
		Bad:  "-- bare --\n$ORIGIN example.com.\n@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\n@ 300 NS ns1.example.net.\n@ 300 NS ns2.example.net.\n",
		Good: "$TTL 3600\nwww A 192.0.2.1\n"}
	RuleBadTTL = &diag.Rule{Code: "bad-ttl", Severity: diag.Error,
		Title: "a TTL cannot be read", Ref: "RFC 2181 §8",
		Doc:  "A TTL is a number of seconds from 0 to 2147483647. Letters for units (1h30m, 2d) are understood, and written back as they are.",
		Bad:  "www 9999999999 A 192.0.2.1\n",
		Good: "www 86400 A 192.0.2.1\n"}
	RuleTTLUnits = &diag.Rule{Code: "ttl-units", Severity: diag.Note,
		Title: "times are written with letters for units", Ref: "RFC 2308 §4, RFC 1035 §5.1",
		Doc:  "1h30m and 2d are understood here but are not standard: a file for other software has seconds. Said once for each file.",
		Bad:  "www 1h A 192.0.2.1\n",
		Good: "www 3600 A 192.0.2.1\n"}
	RuleCarriageReturn = &diag.Rule{Code: "carriage-returns", Severity: diag.Note,
		Title: "lines end in CR LF", Ref: "RFC 1035 §5.1",
		Doc:  "The file comes from a system that ends lines with two characters. It is read all the same. Said once for each file.",
		Bad:  "www A 192.0.2.1\r\n",
		Good: "www A 192.0.2.1\n"}
	RuleByteOrderMark = &diag.Rule{Code: "byte-order-mark", Severity: diag.Note,
		Title: "the file begins with a byte-order mark", Ref: "RFC 3629 §6",
		Doc:  "Three octets that some editors put in front of a text. They are passed over here; other software takes them for a part of the first word.",
		Bad:  "-- bare --\n\ufeff$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n",
		Good: "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"}
	RuleLastLine = &diag.Rule{Code: "unfinished-last-line", Severity: diag.Warning,
		Title: "the last line has no end", Ref: "RFC 1035 §5.1",
		Doc: "Every line of a text ends with a line feed. Where the last one has none, the file was perhaps cut off while it was copied or written, and 192.0.2.111 is 192.0.2.1 now. " +
			"A server does not take such a file: look whether the line is whole, and end it.",
		Bad:  "www A 192.0.2.1",
		Good: "www A 192.0.2.1\n"}
	RuleNotASCII = &diag.Rule{Code: "not-ascii", Severity: diag.Warning,
		Title: "a name holds characters outside ASCII", Ref: "RFC 5891 §4.4",
		Doc:  "The octets are taken as they are, and no resolver will ask for them. An internationalised name is written as its A-label, beginning with xn--.",
		Bad:  "b\u00fccher A 192.0.2.1\n",
		Good: "xn--bcher-kva A 192.0.2.1\n"}
	RuleOutsideZone = &diag.Rule{Code: "outside-zone", Severity: diag.Error,
		Title: "a record's owner is not in the zone", Ref: "RFC 1034 §4.2",
		Doc: "A zone holds data for its own name and the names below it; servers would ignore or refuse the rest. " +
			"Perhaps a $ORIGIN further up is still in force, or the zone's name is misspelt.",
		Bad:  "www.example.org. A 192.0.2.1\n",
		Good: "www.example.com. A 192.0.2.1\n"}
	RuleZoneTwice = &diag.Rule{Code: "zone-name-twice", Severity: diag.Error,
		Title: "the SOA's owner has lost its final dot", Ref: "RFC 1035 §5.1",
		Doc: "A name without a final dot is completed with the origin: the zone would be called example.com.example.com. " +
			"Write the final dot, or @ for the origin itself. Records that stand at the same name by the same slip are counted with it.",
		Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\nexample.com SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\nexample.com NS ns1.example.net.\nexample.com NS ns2.example.org.\n",
		Good: "-- bare --\n$ORIGIN example.com.\n$TTL 3600\nexample.com. SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"}
	RuleInclude = &diag.Rule{Code: "bad-include", Severity: diag.Error,
		Title: "an included file cannot be read", Ref: "RFC 1035 §5.1",
		Doc:  "The path is relative to the file that includes it. Files that include themselves, more than 16 deep, or that lie outside the folder are refused.",
		Bad:  "$INCLUDE nowhere.inc\n",
		Good: "; a file beside this one, or in a folder that [include] names\nwww A 192.0.2.1\n"}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{
	RuleUnknownDirective, RuleBadDirective, RuleUnclosedParen, RuleUnopenedParen, RuleUnclosedQuote, RuleInnerQuote, RuleUnknownType,
	RuleMissingType, RuleTypeNotData, RuleWrongClass, RuleNoOwner, RuleNoTTL, RuleSOATTL, RuleBadTTL, RuleTTLUnits,
	RuleNotText, RuleOddBlank, RuleCommentSign, RuleFieldOrder, RuleCutText,
	RuleCarriageReturn, RuleByteOrderMark, RuleLastLine, RuleNotASCII, RuleOutsideZone, RuleZoneTwice, RuleInclude,
}
