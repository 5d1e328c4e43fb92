package workspace

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"fencepost/cookie"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/tsig"
	"fencepost/wholefile"
)

// secrets are those of secrets.toml.
type secrets struct {
	keys    map[string]*tsig.Key
	cookies cookie.Secrets // present and former
	hidden  bool           // they may not be read
}

// loadSecrets reads secrets.toml; there need not be one.
func loadSecrets(path string, src *source.Set, diags *diag.List) (out secrets, err error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	// The text is not put among the sources: no secret is ever shown.
	f, err := src.Add(path, nil)
	if err != nil {
		return out, err
	}
	at := source.Span{Start: f.Pos(0), End: f.Pos(0)}
	if info.Mode().Perm()&0o077 != 0 {
		diags.Add(RuleSecretsMode.At(at, "%s has mode %04o: others can read the secrets", path, info.Mode().Perm()).
			Suggest("chmod 600 %s", path))
		return out, nil
	}
	text, err := wholefile.Read(path, MaxConfig)
	if errors.Is(err, fs.ErrPermission) {
		return secrets{hidden: true}, nil
	}
	if err != nil {
		return out, err
	}
	var r struct {
		TSIG map[string]struct {
			Algorithm string `toml:"algorithm"`
			Secret    string `toml:"secret"`
		} `toml:"tsig"`
		Cookies struct {
			Secret string `toml:"secret"`
			Former string `toml:"former"`
		} `toml:"cookies"`
	}
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&r); err != nil {
		diags.Add(RuleSyntax.At(at, "%s cannot be read: it has sections [tsig.NAME] with algorithm and secret, and [cookies] with secret and former", path))
		return out, nil
	}
	for _, text := range []string{r.Cookies.Secret, r.Cookies.Former} {
		if text == "" {
			continue
		}
		octets, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(octets) != cookie.SecretSize {
			diags.Add(RuleBadValue.At(at, "a secret of [cookies] is not %d octets in base64", cookie.SecretSize).Suggest("make one: head -c %d /dev/urandom | base64", cookie.SecretSize))
			continue
		}
		out.cookies = append(out.cookies, cookie.Secret(octets))
	}
	if r.Cookies.Secret == "" && r.Cookies.Former != "" {
		diags.Add(RuleBadValue.At(at, "[cookies] has a former secret and no present one"))
	}
	out.keys = map[string]*tsig.Key{}
	where := placesOf(text)
	for name, in := range r.TSIG {
		// Said by the line alone: what stands there as a name or an algorithm may be a secret by a slip.
		which := fmt.Sprintf("the secret of line %d", where.line(pathOf("tsig", name)))
		key := &tsig.Key{Algorithm: in.Algorithm}
		if key.Algorithm == "" {
			key.Algorithm = tsig.DefaultAlgorithm
		}
		var nameErr, secretErr error
		key.Name, nameErr = dnsname.Parse(name, dnsname.Root)
		key.Secret, secretErr = base64.StdEncoding.DecodeString(in.Secret)
		switch {
		case nameErr != nil:
			diags.Add(RuleBadValue.At(at, "%s: the name in its header is not a domain name", which))
		case !tsig.Supported(key.Algorithm):
			diags.Add(RuleBadValue.At(at, "%s has an unknown algorithm", which).
				Suggest("write one of %s", strings.Join(tsig.Algorithms(), ", ")))
		case secretErr != nil || len(key.Secret) == 0:
			diags.Add(RuleBadValue.At(at, "%s is not base64", which))
		default:
			if n := tsig.Octets(key.Algorithm); len(key.Secret) < n {
				diags.Add(RuleSecretShort.At(at, "%s has %d octets, and %s asks for %d", which, len(key.Secret), key.Algorithm, n).
					Suggest("make one: head -c %d /dev/urandom | base64", n))
			}
			out.keys[name] = key
		}
	}
	return out, nil
}
