package ui

import (
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"fencepost/audit"
	"fencepost/diag"
	"fencepost/dnsname"
)

// pageFinding is one test that found something, as the page shows it.
type pageFinding struct {
	audit.Result
	Lines []pageLine
}

// Heading is the title as a sentence begins.
func (f pageFinding) Heading() string { return strings.ToUpper(f.Title[:1]) + f.Title[1:] }

type pageLine struct{ Message, Advice string }

// pageArea is an area with its tests.
type pageArea struct {
	AuditArea
	Errors, Warnings, Notes int
}

func (a pageArea) Name() string { return strings.ToUpper(a.Area.String()[:1]) + a.Area.String()[1:] }

// State is the gravest of an area, for the style and for those who see no colours.
func (a pageArea) State() string {
	switch {
	case a.Errors > 0:
		return "error"
	case a.Warnings > 0:
		return "warning"
	case a.Looked == 0:
		return "none"
	}
	return "good"
}

func (a pageArea) Words() string {
	var parts []string
	for _, c := range []struct {
		n    int
		word string
	}{{a.Errors, "error"}, {a.Warnings, "warning"}, {a.Notes, "note"}} {
		if c.n > 0 {
			parts = append(parts, Plural(c.n, c.word))
		}
	}
	if len(parts) == 0 && a.Looked == 0 {
		return "not applicable"
	}
	if len(parts) == 0 {
		return "all passed"
	}
	return strings.Join(parts, ", ")
}

type pageFact struct{ What, Value string }

// auditPage writes the page.
func auditPage(w io.Writer, r *audit.Report, chain *Trust) error {
	f := r.Facts
	p := struct {
		Zone, Verdict, At, State string
		Headline                 string
		Queries                  string
		Areas                    []pageArea
		Found                    []pageFinding
		Servers                  [][]string
		Facts                    []pageFact
		Picture                  template.HTML
	}{Zone: ZoneName(f.Zone), Verdict: AuditVerdict(r), At: f.Now.UTC().Format("2 January 2006, 15:04 UTC"), Queries: Plural(f.Asked, "query"), Servers: AuditServers(r), Facts: pageFacts(f)}
	p.State, p.Headline = pageHeadline(r)
	for _, a := range AuditAreas(r) {
		pa := pageArea{AuditArea: a}
		for _, t := range a.Found {
			switch t.Severity {
			case diag.Error:
				pa.Errors++
			case diag.Warning:
				pa.Warnings++
			default:
				pa.Notes++
			}
		}
		p.Areas = append(p.Areas, pa)
	}
	for _, s := range []diag.Severity{diag.Error, diag.Warning, diag.Note} {
		for _, t := range r.Results {
			if len(t.Findings) == 0 || t.Severity != s {
				continue
			}
			x := pageFinding{Result: t}
			advice := AuditAdvices(r, &t)
			for i, y := range t.Findings {
				x.Lines = append(x.Lines, pageLine{y.Message, advice[i]})
			}
			p.Found = append(p.Found, x)
		}
	}
	if chain != nil {
		var picture strings.Builder
		if err := ChainSVG(&picture, chain); err != nil {
			return err
		}
		p.Picture = template.HTML(picture.String())
	}
	return auditTemplate().Execute(w, p)
}

// pageHeadline is what somebody reads who reads one line.
func pageHeadline(r *audit.Report) (state, text string) {
	switch {
	case r.Count(diag.Error) > 0:
		return "error", "Something is broken, and people notice it."
	case r.Count(diag.Warning) > 0:
		return "warning", "It works, but not for everybody or not for long."
	case r.Count(diag.Note) > 0:
		return "good", "It works. Some things could be better."
	}
	return "good", "Nothing was found that should be mended."
}

func pageFacts(f *audit.Facts) (out []pageFact) {
	add := func(what, value string) {
		if value != "" {
			out = append(out, pageFact{what, value})
		}
	}
	names := func(which func(*audit.Host) bool) string {
		var list []string
		for _, h := range f.Hosts {
			if which(h) {
				list = append(list, h.Name.Plain())
			}
		}
		return strings.Join(list, ", ")
	}
	if f.AsIf {
		add("Servers, as if it were delegated to them", names(func(h *audit.Host) bool { return h.Above }))
	} else {
		add("Servers, as the parent names them", names(func(h *audit.Host) bool { return h.Above }))
	}
	add("Servers, as the zone itself names them", names(func(h *audit.Host) bool { return h.Own }))
	if f.HasSOA {
		add("Serial", fmt.Sprint(f.SOA.Serial))
		add("Contact", contact(f.SOA.RName))
		add("Secondaries look every, again after, give up after", fmt.Sprintf("%s, %s, %s", seconds(f.SOA.Refresh), seconds(f.SOA.Retry), seconds(f.SOA.Expire)))
		add("That a name does not exist is kept for", seconds(f.SOA.Minimum))
	}
	if f.Chain != nil {
		add("DNSSEC", f.Chain.Status.String())
	}
	return out
}

// contact is the mail address that an RNAME stands for (RFC 1035 §8).
func contact(n dnsname.Name) string {
	if n == dnsname.Root {
		return "none"
	}
	w := n.Wire()
	return w[1:1+int(w[0])] + "@" + n.Parent().Plain()
}

func seconds(n uint32) string { return Duration(time.Duration(n) * time.Second) }

var auditTemplate = parsed("audit", `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1">
<title>{{.Zone}}: audit</title>
<style>
:root{color-scheme:light dark;--ink:#16202a;--soft:#4a5865;--page:#fff;--card:#f4f6f8;--line:#d5dbe1;--error:#a31515;--warning:#8a5a00;--note:#2c5777;--good:#1d6b3a}
@media (prefers-color-scheme:dark){:root{--ink:#e6ebf0;--soft:#a9b4bf;--page:#14191f;--card:#1d242c;--line:#36414c;--error:#ff8d85;--warning:#f2c067;--note:#8fc4ea;--good:#7fd6a0}}
*{box-sizing:border-box}
body{margin:0 auto;max-width:62rem;padding:1.6rem 1rem 3rem;font:16px/1.5 "DejaVu Sans",Verdana,sans-serif;color:var(--ink);background:var(--page)}
h1{font-size:1.7rem;line-height:1.2;margin:0}h2{font-size:1.15rem;margin:2.2rem 0 .7rem;border-bottom:1px solid var(--line);padding-bottom:.3rem}
h3{font-size:1rem;margin:0;display:inline}p{margin:.3rem 0}.soft,footer{color:var(--soft);font-size:.86rem}
.head{border-left:8px solid var(--good);padding:.2rem 0 .2rem 1rem}.head.error{border-color:var(--error)}.head.warning{border-color:var(--warning)}
.headline{font-size:1.15rem;margin-top:.5rem}
.areas{display:grid;grid-template-columns:repeat(auto-fit,minmax(7.9rem,1fr));gap:.6rem;margin-top:1.2rem}
.area{background:var(--card);border:1px solid var(--line);border-top:4px solid var(--good);padding:.5rem .7rem}
.area.error{border-top-color:var(--error)}.area.warning{border-top-color:var(--warning)}.area.none{border-top-color:var(--line)}
.area b{display:block}.area span{font-size:.86rem}
article{border:1px solid var(--line);border-left:6px solid var(--note);background:var(--card);padding:.6rem .9rem;margin:.7rem 0;break-inside:avoid}
article.error{border-left-color:var(--error)}article.warning{border-left-color:var(--warning)}
.badge{font-weight:bold;font-size:.86rem;margin-right:.5rem;color:var(--note)}.error .badge{color:var(--error)}.warning .badge{color:var(--warning)}
article ul{margin:.4rem 0;padding-left:1.2rem}article li{overflow-wrap:anywhere}.advice{color:var(--soft)}
details{margin:.3rem 0}summary{cursor:pointer}summary:hover{text-decoration:underline}
table{border-collapse:collapse;width:100%;font-size:.9rem}th,td{text-align:left;padding:.25rem .7rem .25rem 0;border-bottom:1px solid var(--line);vertical-align:top;overflow-wrap:anywhere}
th{font-weight:normal;color:var(--soft)}.scroll{overflow-x:auto}td.mark{white-space:nowrap;width:6.5rem}
code{font-family:"DejaVu Sans Mono",monospace;font-size:.85em}
.found{font-weight:bold}.passed{color:var(--good)}.skipped{color:var(--soft)}
figure{margin:.8rem 0 0;overflow-x:auto;border:1px solid var(--line);background:#fff}svg{display:block;width:100%;min-width:40rem;height:auto}.cue{display:none;color:var(--soft)}@media screen and (max-width:44rem){.cue{display:block}}
@page{size:A4;margin:16mm}
@media print{:root{color-scheme:light;--ink:#000;--soft:#333;--page:#fff;--card:#fff;--line:#999;--error:#900;--warning:#640;--note:#024;--good:#040}body{padding:0;max-width:none;font-size:10.5pt}svg{min-width:0}details::details-content{content-visibility:visible;block-size:auto}summary{list-style:none}figure,.scroll{overflow:visible}.areas{grid-template-columns:repeat(4,1fr)}tr,figure{break-inside:avoid}h2{break-after:avoid}}
</style></head><body>
<header class="head {{.State}}"><h1>{{.Zone}}</h1><p class="headline">{{.Headline}}</p><p>{{.Verdict}}.</p><p class="soft">Seen from outside on {{.At}}, by {{.Queries}}.</p></header>
<section class="areas">{{range .Areas}}<div class="area {{.State}}"><b>{{.Name}}</b><span>{{.Words}}</span><br><span class="soft">{{if eq .Looked .Total}}{{.Total}} tests run{{else}}{{.Looked}} of {{.Total}} tests apply{{end}}</span></div>{{end}}</section>
{{if .Found}}<h2>What was found</h2>
{{range .Found}}<article class="{{.Severity}}"><span class="badge">{{.Severity}}</span><h3>{{.Heading}}</h3>
<ul>{{range .Lines}}<li>{{.Message}}{{if .Advice}}<br><span class="advice">→ {{.Advice}}</span>{{end}}</li>{{end}}</ul>
<details><summary class="soft">Why it matters</summary><p>{{.Doc}}</p><p class="soft">{{.Ref}}{{if .Ref}} · {{end}}<code>{{.Code}}</code></p></details></article>
{{end}}{{end}}
<h2>Servers</h2>
{{if .Servers}}<div class="scroll"><table><tr><th>name</th><th>address</th><th>state</th><th>serial</th><th>time</th></tr>
{{range .Servers}}<tr>{{range .}}<td>{{.}}</td>{{end}}</tr>{{end}}</table></div>{{else}}<p>No server is known.</p>{{end}}
{{if .Facts}}<h2>The zone</h2><table>{{range .Facts}}<tr><th>{{.What}}</th><td>{{.Value}}</td></tr>{{end}}</table>{{end}}
{{if .Picture}}<h2>Chain of trust</h2><p class="cue">The drawing continues to the right: scroll sideways.</p><figure tabindex="0">{{.Picture}}</figure>{{end}}
<h2>All tests</h2>
{{range .Areas}}<details><summary>{{.Name}}: {{.Words}}</summary><table>
{{range .Found}}<tr><td class="mark found">{{.Severity}}</td><td>{{.Title}}</td><td><code>{{.Code}}</code></td></tr>{{end}}
{{range .Passed}}<tr><td class="mark passed">not found</td><td>{{.Title}}</td><td><code>{{.Code}}</code></td></tr>{{end}}
{{range .Skipped}}<tr><td class="mark skipped">–</td><td>{{.Title}}<br><span class="soft">not looked at: {{.Skipped}}</span></td><td><code>{{.Code}}</code></td></tr>{{end}}
</table></details>
{{end}}
<footer><p>Made by fencepost audit. <code>fencepost explain CODE</code> says more about each test.</p></footer>
</body></html>
`)
