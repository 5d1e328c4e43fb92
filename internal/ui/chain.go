package ui

import (
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/validate"
)

// Trust is a chain of trust to be shown.
type Trust struct {
	*validate.Chain
	Name    dnsname.Name
	Type    rr.Type
	Now     time.Time
	Anchors string // where they are from
	States  []validate.AnchorView
	Advice  string // what to do about it; empty: nothing
}

// Title is what was asked, with the verdict.
func (t *Trust) Title() string { return fmt.Sprintf("%s %s is %s", t.Name.Plain(), t.Type, t.Status) }

// Sentence says what the verdict means.
func (t *Trust) Sentence() string {
	switch t.Status {
	case validate.Secure:
		return "every link holds, from the anchor (" + t.Anchors + ") to the answer"
	case validate.Insecure:
		return "it cannot be proved, and it is proved that it need not be: " + t.Reason
	case validate.Bogus:
		return "validating resolvers reject it: " + t.Reason
	}
	return "it cannot be told: " + t.Reason
}

// ZoneName is a zone as people call it.
func ZoneName(n dnsname.Name) string {
	if n == dnsname.Root {
		return "the root"
	}
	return n.Plain()
}

// SigText is a signature in words.
func SigText(s validate.SigView, now time.Time) string {
	if s.Err != nil {
		return fmt.Sprintf("signature by %d: %v", s.Tag, s.Err)
	}
	return fmt.Sprintf("signed by %d until %s", s.Tag, When(s.Expiration, now))
}

// KeyText is a key in words.
func KeyText(k validate.KeyView) string {
	var is []string
	if k.Led {
		is = append(is, "matches a DS or anchor")
	}
	if k.Signs {
		is = append(is, "signs the keys")
	}
	if k.Revoked {
		is = append(is, "revoked")
	}
	text := fmt.Sprintf("key %d  %s", k.Tag, k.Algorithm)
	if len(is) > 0 {
		text += "  " + strings.Join(is, ", ")
	}
	return text
}

// AnchorText says what is to be known of an anchor; empty where it is as it should be.
func AnchorText(a validate.AnchorView) string {
	switch a.State {
	case validate.AnchorMissing:
		return fmt.Sprintf("anchor %d  %s  missing: the zone has no such key now (RFC 5011 §4.2)", a.Tag, a.Algorithm)
	case validate.AnchorRevoked:
		return fmt.Sprintf("anchor %d  %s  revoked: remove it from the trust anchors (RFC 5011 §2.1)", a.Tag, a.Algorithm)
	case validate.AnchorPending:
		return fmt.Sprintf("key %d  %s  is new: who follows RFC 5011 trusts it after having seen it for 30 days", a.Tag, a.Algorithm)
	}
	return ""
}

// DSText is a DS in words.
func DSText(d validate.DSView) string {
	text := fmt.Sprintf("DS %d  %s  %s", d.Tag, d.Algorithm, dnssec.DigestName(d.Digest))
	switch {
	case !d.Usable:
		text += "  of an algorithm or digest that is not used"
	case d.NoKeys:
	case d.Near != "":
		text += "  " + d.Near
	case !d.Leads:
		text += "  matches no key"
	}
	return text
}

// LinkText is a link that is neither keys nor a DS, in words.
func LinkText(l *validate.Link) string {
	name := l.Name.Plain()
	switch l.Kind {
	case validate.NoDS:
		return fmt.Sprintf("%s is delegated without a DS", name)
	case validate.Denial:
		if l.Outcome == validate.NXDomain {
			return fmt.Sprintf("there is no %s", name)
		}
		return fmt.Sprintf("%s has no %s", name, l.Type)
	case validate.Data:
		var data []string
		for _, r := range l.Records {
			data = append(data, rr.DataText(r.Type, r.Data))
		}
		const most = 3
		if more := len(data) - most; more > 0 {
			data = append(data[:most], fmt.Sprintf("and %d more", more))
		}
		return fmt.Sprintf("%s %s %s", name, l.Type, strings.Join(data, ", "))
	}
	return l.Reason
}

// ChainJSON is a chain as an object, with stable names.
func ChainJSON(t *Trust) map[string]any {
	links := []any{}
	for _, l := range t.Links {
		o := map[string]any{"kind": l.Kind.String(), "name": l.Name.String(), "type": l.Type.String(), "status": l.Status.String()}
		if !l.Zone.IsZero() {
			o["zone"] = l.Zone.String()
		}
		if l.Reason != "" {
			o["reason"] = l.Reason
		}
		if len(l.Keys) > 0 {
			keys := []any{}
			for _, k := range l.Keys {
				keys = append(keys, map[string]any{"key_tag": k.Tag, "algorithm": k.Algorithm.String(), "entry_point": k.SEP, "revoked": k.Revoked, "trusted_from_above": k.Led, "signs_keys": k.Signs})
			}
			o["keys"] = keys
		}
		if len(l.DS) > 0 {
			ds := []any{}
			for _, d := range l.DS {
				ds = append(ds, map[string]any{"key_tag": d.Tag, "algorithm": d.Algorithm.String(), "digest": dnssec.DigestName(d.Digest), "usable": d.Usable, "leads_to_key": d.Leads})
			}
			o["ds"] = ds
		}
		if len(l.Sigs) > 0 {
			sigs := []any{}
			for _, s := range l.Sigs {
				v := map[string]any{"key_tag": s.Tag, "algorithm": s.Algorithm.String(), "signer": s.Signer.String(), "inception": s.Inception.UTC().Format(time.RFC3339), "expiration": s.Expiration.UTC().Format(time.RFC3339), "holds": s.Err == nil}
				if s.Err != nil {
					v["problem"] = s.Err.Error()
				}
				sigs = append(sigs, v)
			}
			o["signatures"] = sigs
		}
		if len(l.Records) > 0 {
			o["records"] = recordTexts(l.Records)
		}
		if len(l.Proof) > 0 {
			o["proof"] = recordTexts(l.Proof)
		}
		links = append(links, o)
	}
	out := map[string]any{"name": t.Name.String(), "type": t.Type.String(), "status": t.Status.String(), "at": t.Now.UTC().Format(time.RFC3339), "anchors": t.Anchors, "links": links}
	states := []any{}
	for _, a := range t.States {
		states = append(states, map[string]any{"key_tag": a.Tag, "algorithm": a.Algorithm.String(), "state": string(a.State)})
	}
	out["anchor_states"] = states
	if t.Reason != "" {
		out["reason"] = t.Reason
	}
	if t.EDE != 0 {
		out["extended_error"] = t.EDE
	}
	if t.Advice != "" {
		out["suggestion"] = t.Advice
	}
	return out
}

// Measures of the drawing of a chain, in pixels.
const (
	chainWidth = 940
	chainLeft  = 30
	chainBox   = chainWidth - 2*chainLeft
	chainLine  = 24 // a line of text
	chainHead  = 40 // of a box
	chainGap   = 46 // between boxes: the arrow
	chainTop   = 108
)

// chainZone is a box: a zone with what is proved by its keys.
type chainZone struct {
	Name, Trust string
	Y, Height   int
	Title       int // baseline
	Broken      bool
	Plain       bool // nothing is proved here
	Lines       []chainText
	Arrow       *chainArrow // from above
}

type chainText struct {
	X, Y                 int
	Text                 string
	Strong, Broken, Weak bool
}

type chainArrow struct {
	Y1, Y2, Mid int
	Label       int // baseline
	Text        string
	Broken      bool
	Dashed      bool
}

type chainDrawing struct {
	*Trust
	Width, Height int
	Zones         []*chainZone
	Mark          string
	Tone          string // colour of the verdict
	Foot          string
}

var chainTone = map[validate.Status]string{validate.Secure: "#1e6b3a", validate.Insecure: "#7a5a00", validate.Bogus: "#a31515", validate.Indeterminate: "#4a4a4a"}

var chainTemplate = parsed("chain", `<svg xmlns="http://www.w3.org/2000/svg" width="{{.Width}}" height="{{.Height}}" viewBox="0 0 {{.Width}} {{.Height}}" font-family="'DejaVu Sans', Verdana, sans-serif" font-size="13" role="img">
<title>{{.Title}}</title>
<rect width="{{.Width}}" height="{{.Height}}" fill="#ffffff"/>
<text x="30" y="40" font-size="20" font-weight="bold" fill="#16202a">{{.Name.Plain}} {{.Type}}</text>
<text x="30" y="66" font-size="15" font-weight="bold" fill="{{.Tone}}">{{.Mark}} {{.Status}}</text>
<text x="30" y="88" fill="#3a4753">{{.Foot}}</text>
{{range .Zones}}{{with .Arrow}}<line x1="90" y1="{{.Y1}}" x2="90" y2="{{.Y2}}" stroke="{{if .Broken}}#a31515{{else}}#16202a{{end}}" stroke-width="2"{{if .Dashed}} stroke-dasharray="5 5"{{end}}/><path d="M84 {{.Y2}} l6 10 l6 -10 z" fill="{{if .Broken}}#a31515{{else}}#16202a{{end}}"/><text x="110" y="{{.Label}}" fill="#3a4753">{{.Text}}</text>{{if .Broken}}<path d="M80 {{.Mid}} l20 12 m0 -12 l-20 12" stroke="#a31515" stroke-width="3"/>{{end}}
{{end}}<rect x="30" y="{{.Y}}" width="880" height="{{.Height}}" rx="6" fill="{{if .Broken}}#fff4f2{{else}}#f6f8fa{{end}}" stroke="{{if .Broken}}#a31515{{else}}#16202a{{end}}" stroke-width="{{if .Broken}}3{{else}}1.2{{end}}"{{if .Plain}} stroke-dasharray="6 5"{{end}}/>
<text x="46" y="{{.Title}}" font-size="15" font-weight="bold" fill="#16202a">{{.Name}}</text>{{if .Trust}}<text x="894" y="{{.Title}}" text-anchor="end" fill="#3a4753">{{.Trust}}</text>{{end}}
{{range .Lines}}<text x="{{.X}}" y="{{.Y}}" fill="{{if .Broken}}#a31515{{else if .Weak}}#3a4753{{else}}#16202a{{end}}"{{if .Strong}} font-weight="bold"{{end}}>{{if .Broken}}✗ {{end}}{{.Text}}</text>
{{end}}{{end}}</svg>
`)

// ChainSVG draws a chain: zones from the anchor down, with keys, DS and signatures (SVG 1.1).
func ChainSVG(w io.Writer, t *Trust) error {
	d := chainDrawing{Trust: t, Width: chainWidth, Tone: chainTone[t.Status], Mark: map[validate.Status]string{validate.Secure: "✓", validate.Bogus: "✗", validate.Insecure: "–", validate.Indeterminate: "?"}[t.Status]}
	d.Foot = clip(t.Sentence(), 125)
	d.layOut()
	return chainTemplate().Execute(w, d)
}

// clip shortens a line that would not fit.
func clip(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// layOut places the links: keys begin a box, and what they prove stands in it.
func (d *chainDrawing) layOut() {
	var box *chainZone
	y, down := chainTop, "" // what stands at the arrow to the next box
	put := func(text string, strong, broken, weak bool) {
		x := chainLeft + 32
		if weak {
			x += 22
		}
		box.Lines = append(box.Lines, chainText{X: x, Y: box.Y + chainHead + len(box.Lines)*chainLine + 14, Text: clip(text, 108), Strong: strong, Broken: broken, Weak: weak})
		box.Height = chainHead + len(box.Lines)*chainLine + 8
	}
	begin := func(name, trust string, broken, plain bool) {
		if box != nil {
			y = box.Y + box.Height + chainGap
		}
		next := &chainZone{Name: name, Trust: trust, Y: y, Title: y + 26, Height: chainHead, Broken: broken, Plain: plain}
		if box != nil {
			next.Arrow = &chainArrow{Y1: box.Y + box.Height, Y2: y - 11, Mid: y - chainGap/2 - 8, Label: y - chainGap/2 + 2, Broken: broken && !box.Broken, Dashed: plain, Text: down}
		}
		down = ""
		d.Zones = append(d.Zones, next)
		box = next
	}
	for _, l := range d.Links {
		broken := l.Status == validate.Bogus
		switch trust := ""; {
		case l.Kind == validate.ZoneKeys:
			if l.Anchor {
				trust = "trusted: " + d.Anchors
			}
			begin(ZoneName(l.Name), trust, broken, false)
		case box == nil:
			begin(ZoneName(l.Name), trust, broken, false)
		case !l.Zone.IsZero() && box.Name != ZoneName(l.Zone):
			begin(ZoneName(l.Zone), "as above", broken, false)
		}
		switch l.Kind {
		case validate.ZoneKeys:
			for _, k := range l.Keys {
				put(KeyText(k), k.Led, false, false)
			}
			for _, a := range d.States {
				if text := AnchorText(a); text != "" && l.Anchor {
					put(text, false, false, true)
				}
			}
			for _, s := range l.Sigs {
				put(drawnSig(s, d.Now), false, false, true)
			}
		case validate.Delegation:
			for _, ds := range l.DS {
				put(DSText(ds)+"  of "+ZoneName(l.Name), true, broken, false)
				down = fmt.Sprintf("DS %d matches a key", ds.Tag)
				if !ds.Leads && !ds.NoKeys || !ds.Usable {
					down = fmt.Sprintf("DS %d matches no key", ds.Tag)
				}
			}
			for _, s := range l.Sigs {
				put(drawnSig(s, d.Now), false, false, true)
			}
		default:
			put(LinkText(l), true, broken, false)
			for _, side := range sidesOf(l, d.Now) {
				put(side, false, false, true)
			}
			down = map[bool]string{true: "alias"}[l.Kind == validate.Data && (l.Type == rr.TypeCNAME || l.Type == rr.TypeDNAME)]
		}
		if broken {
			box.Broken = true
			put(l.Reason, true, true, false)
		}
		if l.Kind == validate.NoDS {
			down = "no DS"
			begin(ZoneName(l.Name), "", false, true)
			put("from here on nothing is signed that could be checked", false, false, true)
		}
	}
	if box == nil {
		begin(d.Name.Plain(), "", false, true)
		put(d.Reason, false, false, true)
	}
	d.Height = box.Y + box.Height + 40
}

// drawnSig is a signature, short.
func drawnSig(s validate.SigView, now time.Time) string {
	if s.Err != nil {
		return SigText(s, now)
	}
	return fmt.Sprintf("signed by %d, until %s (%s)", s.Tag, s.Expiration.UTC().Format("2006-01-02 15:04 UTC"), Duration(s.Expiration.Sub(now)))
}

// sidesOf is what proves a link.
func sidesOf(l *validate.Link, now time.Time) (out []string) {
	if len(l.Proof) > 0 {
		return []string{"proved by " + Plural(len(l.Proof), l.Proof[0].Type.String()+" record")}
	}
	for _, s := range l.Sigs {
		out = append(out, drawnSig(s, now))
	}
	if len(out) == 0 && l.Kind != validate.Nowhere {
		return []string{"not signed"}
	}
	return out
}

var chainPage = parsed("page", `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}</title>
<style>
body{margin:2rem auto;max-width:60rem;padding:0 1rem;font:16px/1.5 "DejaVu Sans",Verdana,sans-serif;color:#16202a;background:#fff}
h1{font-size:1.4rem;margin:0 0 .3rem}p{margin:.3rem 0}figure{margin:1rem 0 0;overflow-x:auto;border:1px solid #d5dbe1}svg{display:block;width:100%;min-width:40rem;height:auto}
.cue{display:none;color:#3a4753;font-size:.9rem}@media screen and (max-width:44rem){.cue{display:block}figure{border-right:3px dashed #3a4753}}
.advice{border-left:4px solid #a31515;padding-left:.8rem;margin-top:1rem}footer{margin-top:1.5rem;color:#3a4753;font-size:.85rem}
@media (prefers-color-scheme:dark){body{background:#14191f;color:#e6ebf0}footer,.cue{color:#a9b4bf}}
@media print{body{margin:0;max-width:none}figure{border:0}svg{min-width:0}}
</style></head><body>
<h1>{{.Title}}</h1>
<p>{{.Sentence}}</p>
{{if .Advice}}<p class="advice">{{.Advice}}</p>{{end}}
<p class="cue">The drawing continues to the right: scroll sideways.</p>
<figure tabindex="0">{{.Picture}}</figure>
<footer>Checked at {{.At}}, from the anchor: {{.Anchors}}.</footer>
</body></html>
`)

// ChainHTML is a page with the drawing, that needs nothing from elsewhere.
func ChainHTML(w io.Writer, t *Trust) error {
	var picture strings.Builder
	if err := ChainSVG(&picture, t); err != nil {
		return err
	}
	return chainPage().Execute(w, struct {
		*Trust
		Picture template.HTML
		At      string
	}{t, template.HTML(picture.String()), t.Now.UTC().Format("2006-01-02 15:04:05 UTC")})
}
