package ui

import (
	"fmt"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
)

// traceCommands are the commands that help with what is wrong in a zone.
var traceCommands = map[*diag.Rule]string{
	resolve.ServersDisagree: "fencepost secondaries %s --at all",
	resolve.NSDiffer:        "fencepost handover %s",
	resolve.GlueDiffers:     "fencepost handover %s",
}

// TraceAdvice says what to do about a trouble of a zone; empty: nothing in particular.
func TraceAdvice(x resolve.Trouble, zone dnsname.Name) string {
	what := x.Advice
	if command, ok := traceCommands[x.Rule]; ok {
		what = fmt.Sprintf("%s: "+command, x.Advice, zone.Plain())
	}
	who := "the operator of " + zone.Plain()
	if ofServers[x.Rule] {
		who = "the operator of that server"
	}
	if what == "" {
		return who + " has to act"
	}
	return who + ": " + what
}

// ofServers are the rules on which whoever runs a server has to act.
var ofServers = map[*diag.Rule]bool{resolve.ServerSilent: true, resolve.ServerNoTCP: true, resolve.ServerLame: true, resolve.ServerNoEDNS: true, resolve.NoServerAnswers: true}

// TraceJSON is a trace as an object, with stable names.
func TraceJSON(t *resolve.Trace) map[string]any {
	legs := []any{}
	for _, leg := range t.Legs {
		steps := []any{}
		for _, s := range leg.Steps {
			steps = append(steps, stepJSON(s))
		}
		legs = append(legs, map[string]any{"name": leg.Name.String(), "end": leg.End.String(), "steps": steps})
	}
	return map[string]any{"name": t.Name.String(), "type": t.Type.String(), "queries": t.Asked, "legs": legs}
}

func stepJSON(s *resolve.Step) map[string]any {
	servers, troubles := []any{}, []any{}
	for _, a := range s.Said {
		o := map[string]any{"address": a.At.Addr().String(), "says": a.Kind.String(), "tcp": a.TCP == nil, "milliseconds": float64(a.Elapsed.Microseconds()) / 1000}
		if !a.Host.IsZero() {
			o["name"] = a.Host.String()
		}
		if !a.Cut.IsZero() {
			o["refers_to"] = a.Cut.String()
		}
		if a.Err != nil {
			o["problem"] = a.Err.Error()
		} else {
			o["rcode"] = a.Code.String()
		}
		if a.TCP != nil {
			o["tcp_problem"] = a.TCP.Error()
		}
		servers = append(servers, o)
	}
	for _, x := range s.Troubles {
		o := map[string]any{"code": x.Code, "severity": x.Severity.String(), "grave": x.Grave, "message": x.Message}
		if advice := TraceAdvice(x, s.Zone); advice != "" {
			o["suggestion"] = advice
		}
		if len(x.Records) > 0 {
			o["missing"], o["missing_in"] = recordTexts(x.Records), x.In.String()
		}
		troubles = append(troubles, o)
	}
	return map[string]any{"zone": s.Zone.String(), "servers": servers, "troubles": troubles, "answer": recordTexts(s.Answer)}
}

// recordTexts are records as lines of a master file.
func recordTexts(records []rr.Record) []string {
	out := []string{}
	for _, r := range records {
		out = append(out, r.String())
	}
	return out
}
