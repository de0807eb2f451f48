// Command screenshots takes the pictures of the console that the documents show,
// from a registry that runs with the sample world.
//
//	screenshots -from http://127.0.0.1:7070 -to docs/screenshots
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"

	"warthesis/internal/browser"
	"warthesis/internal/demo"
)

// picture is one page in one scheme; click, where set, is pressed before the shot.
type picture struct {
	name, path, wait, click string
	dark                    bool
}

var pictures = []picture{
	{name: "images", path: "/", wait: `[data-index="3"]`},
	{name: "repository", path: "/r/signals/relay?sort=version", wait: `[data-index="3"]`, click: `[aria-label^="Why: 4.2.0"]`},
	{name: "image", path: "/r/timetable/planner@:2.4.1", wait: `[role="listitem"]`},
	{name: "retention", path: "/retention?place=timetable", wait: `[aria-label="What goes"] [data-index="1"]`},
	{name: "rules", path: "/rules?place=signals", wait: `[aria-label="What they do now"] p:nth-of-type(2)`},
	{name: "removed-dark", path: "/removed", wait: `main li`, dark: true},
	{name: "flow", path: "/flow", wait: `[aria-label="Replication rules"] tbody tr`},
	{name: "storage", path: "/storage", wait: `[aria-label^="timetable "]`},
	{name: "service", path: "/service", wait: `[aria-label="Figures of run 2"]`, click: `[aria-label="Figures of run 2"]`},
	{name: "activity", path: "/activity", wait: `[data-index="3"]`},
	{name: "find", path: "/find?q=6bdb65605f78", wait: `main a`},
}

func main() {
	from := flag.String("from", "http://127.0.0.1:7070", "address of the registry")
	to := flag.String("to", "docs/screenshots", "folder for the pictures")
	path := flag.String("path", "", "take one picture of this path instead, for a look")
	click := flag.String("click", "", "press this before the one picture")
	dark := flag.Bool("dark", false, "take the one picture in the dark scheme")
	width := flag.Int64("width", 1280, "how wide the window is for the one picture, in pixels")
	account := flag.String("account", "ines", "account to sign in as; empty for nobody")
	flag.Parse()
	if *path != "" {
		pictures = []picture{{name: "look", path: *path, wait: "main h1", click: *click, dark: *dark}}
	}
	if err := take(*from, *to, *account, *width); err != nil {
		log.Fatal(err)
	}
}

func take(from, to, account string, width int64) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	page, end, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer end()
	if err := page.Size(width, 800); err != nil {
		return err
	}
	if account != "" {
		if err := page.SignIn(from, account, demo.Password); err != nil {
			return err
		}
	}
	for _, p := range pictures {
		shot, err := p.take(page, from)
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if err := os.WriteFile(filepath.Join(to, p.name+".png"), shot, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func (p picture) take(page *browser.Page, from string) ([]byte, error) {
	scheme := "light"
	if p.dark {
		scheme = "dark"
	}
	if err := page.Scheme(scheme); err != nil {
		return nil, err
	}
	if err := page.Go(from + p.path); err != nil {
		return nil, err
	}
	if err := page.WaitFor(p.wait); err != nil {
		return nil, err
	}
	if p.click != "" {
		if err := page.Click(p.click); err != nil {
			return nil, err
		}
	}
	return page.Shot()
}
