package workspace

import "fencepost/diag"

// Rules of the configuration.
var (
	RuleSyntax = &diag.Rule{Code: "config-syntax", Severity: diag.Error, Title: "fencepost.toml cannot be read", Ref: "TOML 1.0",
		Doc: "The file is TOML: sections in square brackets, then key = value with texts in double quotes."}
	RuleUnknownKey = &diag.Rule{Code: "config-unknown-key", Severity: diag.Error, Title: "fencepost.toml has an unknown key", Ref: "",
		Doc: "A misspelt key is an error: ignoring it would hide that the setting has no effect."}
	RuleBadValue = &diag.Rule{Code: "config-bad-value", Severity: diag.Error, Title: "a value in fencepost.toml cannot be used", Ref: "",
		Doc: "The value does not fit its key: see the message for what is expected."}
	RuleMissingReference = &diag.Rule{Code: "config-missing-reference", Severity: diag.Error, Title: "a zone names a peer, policy or secret that does not exist", Ref: "",
		Doc: "Peers are sections [peer.NAME], policies [policy.NAME], secrets [tsig.NAME] in secrets.toml."}
	RuleSecretShort = &diag.Rule{Code: "secret-short", Severity: diag.Warning, Title: "a secret is shorter than it should be", Ref: "RFC 8945 §8",
		Doc: "Messages are as hard to forge as their secret is to guess: it should be random, and at least as long as the hash. Both sides get a new one: peers name the other with tsig-also while it is changed."}
	RuleSecretsMode = &diag.Rule{Code: "secrets-readable", Severity: diag.Error, Title: "others can read secrets.toml", Ref: "RFC 8945 §8",
		Doc: "Anyone who knows a secret can transfer the zones that it protects. Run: chmod 600 secrets.toml"}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{RuleSyntax, RuleUnknownKey, RuleBadValue, RuleMissingReference, RuleSecretShort, RuleSecretsMode}
