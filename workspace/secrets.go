package workspace

import (
	"bytes"
	"encoding/base64"
	"errors"
	"io/fs"
	"os"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/tsig"
)

// loadSecrets reads secrets.toml; there need not be one.
func loadSecrets(path string, src *source.Set, diags *diag.List) (map[string]*tsig.Key, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	// The text is not put among the sources: no secret is ever shown.
	f, err := src.Add(path, nil)
	if err != nil {
		return nil, err
	}
	at := source.Span{Start: f.Pos(0), End: f.Pos(0)}
	if info.Mode().Perm()&0o077 != 0 {
		diags.Add(RuleSecretsMode.At(at, "%s has mode %04o: others can read the secrets", path, info.Mode().Perm()).
			Suggest("chmod 600 %s", path))
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var r struct {
		TSIG map[string]struct {
			Algorithm string `toml:"algorithm"`
			Secret    string `toml:"secret"`
		} `toml:"tsig"`
	}
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&r); err != nil {
		diags.Add(RuleSyntax.At(at, "%s cannot be read: it has sections [tsig.NAME] with algorithm and secret", path))
		return nil, nil
	}
	out := map[string]*tsig.Key{}
	for name, in := range r.TSIG {
		key := &tsig.Key{Algorithm: in.Algorithm}
		if key.Algorithm == "" {
			key.Algorithm = tsig.DefaultAlgorithm
		}
		var nameErr, secretErr error
		key.Name, nameErr = dnsname.Parse(name, dnsname.Root)
		key.Secret, secretErr = base64.StdEncoding.DecodeString(in.Secret)
		switch {
		case nameErr != nil:
			diags.Add(RuleBadValue.At(at, "the secret's name %q is no domain name", name))
		case !tsig.Supported(key.Algorithm):
			diags.Add(RuleBadValue.At(at, "the secret %s has an unknown algorithm %q", name, key.Algorithm).
				Suggest("write one of %s", strings.Join(tsig.Algorithms(), ", ")))
		case secretErr != nil || len(key.Secret) == 0:
			diags.Add(RuleBadValue.At(at, "the secret %s is not base64", name))
		default:
			out[name] = key
		}
	}
	return out, nil
}
