package carried

import (
	"fmt"
	"strings"

	"warthesis/internal/cli/term"
	"warthesis/internal/flow/mirrors"
	"warthesis/internal/flow/packing"
)

// page is the page that says where each file goes.
func (t *telling) page(items []packing.Item) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("# Look at %s first\n", t.to)
	say("What %s names is looked for at %s first, and where it always was only if it is not there.\n", baseName(t.c.Args[0]), t.to.Registry)
	say("| names that begin so | are looked for at |\n| --- | --- |")
	for _, r := range t.rules {
		say("| `%s` | `%s` |", r.From, r.To)
	}
	if t.byDigest {
		say("\nOnly names with a digest are looked for there.")
	}
	say("\n## Where each file goes\n")
	say("| file | goes to | what it is |\n| --- | --- | --- |")
	for _, f := range t.facts.Files {
		say("| `%s` | `%s` | %s |", f.Name, f.Place, f.What)
	}
	say("\nAn engine reads `registries.conf` with its next pull. A node reads the files in `certs.d` with its next pull, and `config.toml` after a restart of its")
	say("runtime. On one that is set up anew they are put there before its first start. Keep what was there before: put back, it undoes this.")
	if t.account == "" {
		say("\nNo pull secret was made. If these repositories are closed:\n")
		say("    %s pull-secret %s/NAMESPACE --account MACHINE-ACCOUNT", term.ProgramName(), t.to.Registry)
	} else {
		say("\n`pull-secret.json` has a token of `%s` that may pull and nothing else. It is a secret.", t.account)
	}
	if _, not := mirrors.Hosts(items, t.place); len(not) > 0 {
		say("\n## What nodes cannot be told\n\nTheir files know whole registries, and no single names. These have another name at %s; name them so, or copy them under their own:\n", t.to.Registry)
		for _, r := range not {
			say("- `%s` is `%s`", r.From, r.To)
		}
	}
	listed := func(title, none string, all []string) {
		say("\n## %s\n", title)
		if len(all) == 0 {
			say("%s", none)
		}
		for _, one := range all {
			say("- `%s`", one)
		}
	}
	listed("What is not there yet", "All that the list names is there.", t.facts.NotHere)
	if t.pods != "" {
		listed("What runs now and is not there yet", "All that runs now and would be looked for there is there.", t.facts.RunsNotHere)
		listed("What is pulled from outside still", "Nothing.", t.facts.Outside)
	}
	say("\n## Try it\n")
	switch {
	case t.facts.Tested == "":
		say("Nothing of the list is there yet, so that no pull could be tried.")
	case t.facts.TestFailed != "":
		say("A pull of `%s` was tried and failed: %s", t.facts.Tested, term.OneLine(t.facts.TestFailed))
	default:
		say("A pull of `%s` was tried, and came. On a client, pull by the name that it always had:\n", t.facts.Tested)
		say("    %s", firstHere(items, t.facts.NotHere))
	}
	return b.String()
}

// firstHere is a name of the list that is there.
func firstHere(items []packing.Item, not []string) string {
	lacks := map[string]bool{}
	for _, one := range not {
		lacks[one] = true
	}
	for _, i := range items {
		if !lacks[i.Ref.String()] {
			return i.Ref.String()
		}
	}
	return ""
}

func (t *telling) draw() {
	w := t.c.T.Table("File", "Goes to")
	for _, f := range t.facts.Files {
		w.Row(f.Name, term.OrDash(f.Place))
	}
	w.Draw()
	for _, one := range t.facts.RunsNotHere {
		t.c.T.Warn("%s runs now and is not at %s yet; copy it before clients look there first, or they go on pulling it from outside", term.OneLine(one), t.to)
	}
	if n := len(t.facts.NotHere); n > 0 {
		t.c.T.Warn("%s not at %s yet; copy them with:  %s", term.Count(n, "image of the list is", "images of the list are"), t.to, t.c.Self("copy", t.c.Args[0], t.to.String()))
	}
	if n := len(t.facts.Outside); n > 0 {
		t.c.T.Say("%s pulled from outside still; %s names them", term.Count(n, "image that runs now is", "images that run now are"), "WHERE-EACH-GOES.md")
	}
	switch {
	case t.facts.TestFailed != "":
		t.c.T.Warn("a pull of %s was tried and failed: %s", t.facts.Tested, term.OneLine(t.facts.TestFailed))
	case t.facts.Tested != "":
		t.c.T.Say("A pull of %s was tried, and came", t.facts.Tested)
	}
	t.c.T.Say("%s says where each file goes", t.folder+"/WHERE-EACH-GOES.md")
}
