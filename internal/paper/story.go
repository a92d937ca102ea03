package paper

import (
	"fmt"
	"html/template"
	"strings"
	"time"

	"lantern/internal/api"
)

const storyTime = "2006-01-02 15:04:05Z"

// StoryMarkdown is a story as a Markdown document; its times are in UTC, so that everybody who reads it means the same.
func StoryMarkdown(s api.Story) string {
	var out strings.Builder
	plain := func(text string) string {
		return strings.NewReplacer(
			"\\",
			"\\\\",
			"|",
			"\\|",
			"*",
			"\\*",
			"_",
			"\\_",
			"`",
			"\\`",
			"<",
			"&lt;",
			"[",
			"\\[",
			"\n",
			" ",
		).Replace(
			text,
		)
	}
	fmt.Fprintf(
		&out,
		"# The story of %s\n\n%s to %s, in UTC%s\n\n| when | what | who | |\n|---|---|---|---|\n",
		plain(s.Title),
		s.From.UTC().Format(storyTime),
		s.To.UTC().Format(storyTime),
		practiceWords(s),
	)
	for _, e := range s.Entries {
		says := plain(e.Says)
		if !e.Until.IsZero() {
			says = "**" + says + ", until " + e.Until.UTC().Format(storyTime) + "**"
		}
		fmt.Fprintf(&out, "| %s | %s | %s | %s |\n", e.At.UTC().Format(storyTime), e.What, plain(e.Who), says)
	}
	return out.String()
}

func practiceWords(s api.Story) string {
	if s.Practice.Pool == "" {
		return ""
	}
	return ". REHEARSAL on a copy of " + s.Practice.Pool + ": none of this happened"
}

// storyPage is a story as a page.
var storyPage = template.Must(template.New("story").Funcs(template.FuncMap{
	"at": func(t time.Time) string { return t.UTC().Format(storyTime) }, "practice": practiceWords,
}).Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<title>The story of {{.Title}}</title>
<style>
  body { font: 15px/1.45 system-ui, sans-serif; color: #16202a; max-width: 64rem; margin: 2rem auto; padding: 0 1rem; }
  table { border-collapse: collapse; width: 100%; } td { padding: .2rem .8rem .2rem 0; vertical-align: top; border-bottom: 1px solid #d5d9dc; }
  td:first-child { white-space: nowrap; } .unknown { font-weight: 700; background: repeating-linear-gradient(45deg, #eee 0 6px, #fff 6px 12px); }
  @media print { body { margin: 0; max-width: none; font-size: 10pt; } tr { break-inside: avoid; } }
</style>
<h1>The story of {{.Title}}</h1>
<p>{{at .From}} to {{at .To}}, in UTC{{practice .}}</p>
<table>{{range .Entries}}<tr class="{{.What}}"><td>{{at .At}}</td><td>{{.What}}</td><td>{{.Who}}</td><td>{{.Says}}{{if not .Until.IsZero}}, until {{at .Until}}{{end}}</td></tr>
{{end}}</table>
</html>
`))

// StoryHTML is a story as one HTML page that prints.
func StoryHTML(s api.Story) string {
	var out strings.Builder
	if err := storyPage.Execute(&out, s); err != nil {
		return "" // only a writer that fails makes it fail, and this one does not
	}
	return out.String()
}
