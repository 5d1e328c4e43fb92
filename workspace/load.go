package workspace

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"

	"fencepost/diag"
	"fencepost/source"
	"fencepost/wholefile"
)

// ErrNone means that there is no workspace where one was looked for.
var ErrNone = errors.New("no fencepost.toml here or in a folder above")

// Locate finds the nearest folder at or above start with a fencepost.toml.
func Locate(start string) (string, error) {
	dir, err := filepath.Abs(start)
	if err != nil {
		return "", err
	}
	for {
		if _, err := os.Stat(filepath.Join(dir, ConfigFile)); err == nil {
			return dir, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return "", ErrNone
		}
		dir = up
	}
}

// controlSocket is where the control socket is where nothing is said.
var controlSocket = filepath.Join(StateDir, "control.sock")

// ControlOf is the control socket of the workspace dir, whatever else is wrong with its configuration: a
// server that runs is reached at what it read before.
func ControlOf(dir string) string {
	var r struct {
		Serve struct {
			Control string `toml:"control"`
		} `toml:"serve"`
	}
	path := controlSocket
	text, err := wholefile.Read(filepath.Join(dir, ConfigFile), MaxConfig)
	if err == nil && toml.Unmarshal(text, &r) == nil && r.Serve.Control != "" {
		path = r.Serve.Control
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, path)
	}
	return path
}

// MaxConfig bounds what is read as configuration: a hundred thousand zones are 10 MB.
const MaxConfig = 256 << 20

// Load reads the configuration of the workspace dir. Findings go to diags, with
// places in src; the Config is nil when there are errors among them. The error
// is about reading files only.
func Load(dir string, src *source.Set, diags *diag.List) (*Config, error) {
	path := filepath.Join(dir, ConfigFile)
	text, err := wholefile.Read(path, MaxConfig)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", path, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	f, err := src.Add(path, text)
	if err != nil {
		return nil, err
	}
	return LoadText(dir, f, src, diags)
}

// LoadText is Load with the text of fencepost.toml given, as it may not be saved
// yet. f is in src.
func LoadText(dir string, f *source.File, src *source.Set, diags *diag.List) (*Config, error) {
	p := &checker{file: f, diags: diags, errors: diags.Count(diag.Error), where: placesOf(f.Content)}
	var r raw
	if !p.decode(f.Content, &r) {
		return nil, nil
	}
	unread := p.failed()
	held, err := loadSecrets(filepath.Join(dir, SecretsFile), src, diags)
	if err != nil {
		return nil, err
	}
	p.hidden = held.hidden || unread
	if p.failed() && !unread { // secrets that are not there would only be echoes
		p.forgive(diags.All[len(diags.All)-1])
		p.hidden = true
	}
	before := len(diags.All)
	c := p.config(dir, &r, held)
	p.dropEchoes(before)
	if p.failed() {
		return nil, nil
	}
	if c.SecretsTrouble = p.trouble; c.SecretsTrouble == "" && held.hidden {
		c.SecretsTrouble = SecretsFile + " may not be read by this user"
	}
	return c, nil
}

// checker turns raw into Config.
type checker struct {
	hidden  bool   // the secrets may not be read, or cannot
	trouble string // see Config.SecretsTrouble
	file    *source.File
	diags   *diag.List
	errors  int // errors there were before
	where   *places
	spoiled []int // where settings begin that could not be read, and their sections
}

func (p *checker) failed() bool { return p.diags.Count(diag.Error) > p.errors }

// forgive has the errors found so far not keep the configuration from being used: they are about
// secrets alone. d is one of them.
func (p *checker) forgive(d diag.Diagnostic) {
	if p.errors = p.diags.Count(diag.Error); p.trouble == "" {
		if p.trouble = d.Message; d.Suggestion != "" {
			p.trouble += "; " + d.Suggestion
		}
	}
}

func (p *checker) span(line, column, length int) source.Span {
	off := p.offset(line, column)
	return source.Span{Start: p.file.Pos(off), End: p.file.Pos(min(off+length, len(p.file.Content)))}
}

// span1 is the octet at an offset.
func (p *checker) span1(off int) source.Span {
	return source.Span{Start: p.file.Pos(off), End: p.file.Pos(min(off+1, len(p.file.Content)))}
}

// offset is where a line and a column are, counted from 1.
func (p *checker) offset(line, column int) int {
	off := 0
	for ; line > 1; line-- {
		i := bytes.IndexByte(p.file.Content[off:], '\n')
		if i < 0 {
			break
		}
		off += i + 1
	}
	return min(off+max(column-1, 0), len(p.file.Content))
}

// place finds where key is written in the n-th section with the given header,
// counted from 0; the section if it is not, the file's start if there is none.
func (p *checker) place(header string, n int, key string) source.Span {
	at := p.where.find(header, n, key)
	end := len(p.file.Content)
	if i := bytes.IndexByte(p.file.Content[at:], '\n'); i >= 0 {
		end = at + i
	}
	return source.Span{Start: p.file.Pos(at), End: p.file.Pos(at + len(bytes.TrimRight(p.file.Content[at:end], " \t\r")))}
}
