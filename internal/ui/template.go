package ui

import (
	"html/template"
	"sync"
)

// parsed gives a template when it is first wanted: most commands show none, and
// parsing costs each of them as much as the rest of their start.
func parsed(name, text string) func() *template.Template {
	return sync.OnceValue(func() *template.Template { return template.Must(template.New(name).Parse(text)) })
}
