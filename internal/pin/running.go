package pin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// MostRunning is the largest text of Running, in bytes.
const MostRunning = 256 << 20

// Running returns the references in what tells what runs somewhere: the JSON that a cluster's
// API gives for its pods, or a reference a line, # for comments. Each comes once, in order.
// What a runtime writes before an ID of an image is left out.
func Running(raw []byte) ([]string, error) {
	return running(raw, images)
}

// RunningPinned is Running with the digest written behind the name, where it is told what of
// a name runs.
func RunningPinned(raw []byte) ([]string, error) {
	return running(raw, func(document any, all []string) []string {
		pinned := map[string]bool{}
		all = identified(document, pinned, all)
		for _, text := range images(document, nil) {
			// What is told with its digest is not told without.
			name, digest, has := strings.Cut(text, "@")
			if !pinned[text] && !(has && pinned["@"+digest] && name != "") {
				all = append(all, text)
			}
		}
		return all
	})
}

// identified finds what runs with the ID of what runs of it, and notes both.
func identified(node any, pinned map[string]bool, all []string) []string {
	switch node := node.(type) {
	case []any:
		for _, one := range node {
			all = identified(one, pinned, all)
		}
	case map[string]any:
		image, _ := node["image"].(string)
		id, _ := node["imageID"].(string)
		_, digest, is := strings.Cut(id, "@")
		if is && image != "" && !strings.HasPrefix(image, "sha256:") && !strings.Contains(image, "@") {
			pinned[image], pinned["@"+digest] = true, true
			all = append(all, image+"@"+digest)
		}
		for _, value := range node {
			all = identified(value, pinned, all)
		}
	}
	return all
}

// running reads what runs, with what finds it in JSON.
func running(raw []byte, find func(document any, all []string) []string) ([]string, error) {
	var all []string
	if trimmed := bytes.TrimSpace(raw); len(trimmed) > 0 && (trimmed[0] == '{' || trimmed[0] == '[') {
		d := json.NewDecoder(bytes.NewReader(trimmed))
		for d.More() {
			var document any
			if err := d.Decode(&document); err != nil {
				return nil, fmt.Errorf("this is no JSON as a cluster's API gives it for pods: %w", err)
			}
			all = find(document, all)
		}
	} else {
		for line := range strings.Lines(string(raw)) {
			line, _, _ = strings.Cut(line, "#")
			if line = strings.TrimSpace(line); line != "" {
				all = append(all, line)
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all), nil
}

// images finds the images of containers, which are in use by the names that pods give, and
// by the IDs that they run.
func images(node any, all []string) []string {
	switch node := node.(type) {
	case []any:
		for _, one := range node {
			all = images(one, all)
		}
	case map[string]any:
		for key, value := range node {
			text, is := value.(string)
			switch {
			case !is:
				all = images(value, all)
			case text == "":
			case key == "image":
				// What names no tag and no registry is told by its ID as well.
				if !strings.HasPrefix(text, "sha256:") {
					all = append(all, text)
				}
			case key == "imageID":
				if _, id, has := strings.Cut(text, "://"); has {
					text = id
				}
				if strings.Contains(text, "@") || strings.Contains(text, ":") {
					all = append(all, text)
				}
			}
		}
	}
	return all
}
