// Package mirrors writes what container engines and cluster nodes read to look at another
// registry first: for both common kinds of configuration, merged into what is there. It is
// pure: texts in, texts out, and what it merges stays as it is but for what it adds.
package mirrors

import (
	"bytes"
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
)

// MostBytes is the largest configuration that is read, in bytes.
const MostBytes = 4 << 20

// Rule says that what a prefix of names means is looked for elsewhere first.
type Rule struct {
	// From is a registry with the beginning of names, or a whole name, To the same at the
	// registry that is asked first.
	From, To string
}

// Place is the registry that is asked first.
type Place struct {
	Registry string
	// Prefix stands before the names there, "" for none.
	Prefix oci.Name
	// Plain tells that plain HTTP is spoken to it; Authority that a certificate stands beside
	// the configuration by which its own is checked.
	Plain, Authority bool
	// ByDigest looks there for what is named by digest alone.
	ByDigest bool
}

func (p Place) at(name string) string {
	if p.Prefix != "" {
		name = string(p.Prefix) + "/" + name
	}
	return p.Registry + "/" + name
}

// Of returns the rules for what a list names: one for each namespace, or for the name alone
// where the list calls it otherwise at the destination. What is at the place already has none.
func Of(items []packing.Item, place Place) []Rule {
	var all []Rule
	for _, i := range items {
		from := i.Ref.Registry + "/" + i.Ref.Name.Namespace()
		rule := Rule{from, place.at(i.Ref.Name.Namespace())}
		if i.Name != i.Ref.Name {
			rule = Rule{i.Ref.Registry + "/" + string(i.Ref.Name), place.at(string(i.Name))}
		}
		if i.Ref.Registry != place.Registry {
			all = append(all, rule)
		}
	}
	// The longer prefix is asked first; names of one length stand in order.
	slices.SortFunc(all, func(a, b Rule) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	return slices.Compact(all)
}

// Covers returns where a reference is looked for first, "" where no rule means it.
func Covers(rules []Rule, ref oci.Reference) string {
	name := ref.Registry + "/" + string(ref.Name)
	best, to := "", ""
	for _, r := range rules {
		if (name == r.From || strings.HasPrefix(name, r.From+"/")) && len(r.From) > len(best) {
			best, to = r.From, r.To+strings.TrimPrefix(name, r.From)
		}
	}
	return to
}

// engineFile is what is read of a configuration of engines.
type engineFile struct {
	Registry   []engineRegistry `toml:"registry"`
	Registries map[string]any   `toml:"registries"`
}

type engineRegistry struct {
	Prefix   string `toml:"prefix"`
	Location string `toml:"location"`
	Insecure bool   `toml:"insecure"`
	Blocked  bool   `toml:"blocked"`
	Mirror   []struct {
		Location string `toml:"location"`
		Insecure bool   `toml:"insecure"`
		From     string `toml:"pull-from-mirror"`
	} `toml:"mirror"`
}

// means is the prefix that a registry is about.
func (r engineRegistry) means() string {
	if r.Prefix == "" {
		return r.Location
	}
	return r.Prefix
}

// broader returns the registry of the longest prefix that a prefix is below, the zero value
// for none: engines take the longest alone, so that what it says is said again.
func (f engineFile) broader(prefix string) (best engineRegistry) {
	for _, r := range f.Registry {
		if strings.HasPrefix(prefix, r.means()+"/") && len(r.means()) > len(best.means()) {
			best = r
		}
	}
	return best
}

// block is a registry of the file, for a prefix that is not in it yet.
func (f engineFile) block(r Rule, place Place) string {
	was := f.broader(r.From)
	rest := strings.TrimPrefix(r.From, was.means())
	location := r.From
	if was.Location != "" {
		location = was.Location + rest
	}
	said := fmt.Sprintf("[[registry]]\nprefix = %q\nlocation = %q\n", r.From, location)
	if was.Insecure {
		said += "insecure = true\n"
	}
	if was.Blocked {
		said += "blocked = true\n"
	}
	said += "\n" + mirror(r, place)
	for _, m := range was.Mirror {
		said += fmt.Sprintf("\n[[registry.mirror]]\nlocation = %q\n", m.Location+rest)
		if m.Insecure {
			said += "insecure = true\n"
		}
		if m.From != "" {
			said += fmt.Sprintf("pull-from-mirror = %q\n", m.From)
		}
	}
	return said
}

// find returns the number of a registry by its prefix, below zero for none.
func (f engineFile) find(prefix string) int {
	return slices.IndexFunc(f.Registry, func(r engineRegistry) bool { return r.means() == prefix })
}

// Engine writes the rules into the file that engines read of all registries, registries.conf:
// into what it is now, or into an empty one. Of a registry that is in it already only the
// mirror is added, before those that it has.
func Engine(now []byte, rules []Rule, place Place) ([]byte, error) {
	var was engineFile
	if err := toml.Unmarshal(now, &was); err != nil {
		return nil, oci.Errorf(oci.CodeQueryInvalid, "the configuration of the engine cannot be read: %v", err)
	}
	if len(was.Registries) > 0 {
		return nil, oci.Errorf(oci.CodeQueryInvalid, "the configuration of the engine is of the old form, with [registries.search] and the like, which has no mirrors; write it in the form with [[registry]] first")
	}
	text := string(now)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	for _, r := range rules {
		at := was.find(r.From)
		switch {
		case at < 0:
			if text != "" {
				text += "\n"
			}
			text += was.block(r, place)
		case len(was.Registry[at].Mirror) > 0 && was.Registry[at].Mirror[0].Location == r.To:
		default:
			var err error
			if text, err = within(text, at, mirror(r, place)); err != nil {
				return nil, err
			}
		}
	}
	// What is written is read once more: a file that no engine reads is worse than none.
	var is engineFile
	if err := toml.Unmarshal([]byte(text), &is); err != nil {
		return nil, fmt.Errorf("what would be written cannot be read: %w", err)
	}
	for _, r := range rules {
		at := is.find(r.From)
		if at < 0 || len(is.Registry[at].Mirror) == 0 || is.Registry[at].Mirror[0].Location != r.To {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "the configuration of the engine is written in a way that nothing can be added to for %s; add a mirror %s by hand", r.From, r.To)
		}
	}
	return []byte(text), nil
}

// mirror is a mirror of a registry.
func mirror(r Rule, place Place) string {
	said := fmt.Sprintf("[[registry.mirror]]\nlocation = %q\n", r.To)
	if place.Plain {
		said += "insecure = true\n"
	}
	if place.ByDigest {
		said += "pull-from-mirror = \"digest-only\"\n"
	}
	return said
}

var header = regexp.MustCompile(`^\s*\[`)

// within adds a mirror to a registry of the file, by its number: before its other mirrors, or
// at its end.
func within(text string, number int, mirror string) (string, error) {
	lines := strings.SplitAfter(text, "\n")
	registry := -1
	for at, line := range lines {
		bare := strings.Join(strings.Fields(strings.SplitN(line, "#", 2)[0]), "")
		switch {
		case bare == "[[registry]]" && registry == number:
			return insert(lines, at, mirror+"\n"), nil
		case bare == "[[registry]]":
			registry++
		case registry == number && header.MatchString(line):
			return insert(lines, at, mirror+"\n"), nil
		}
	}
	if registry != number {
		return "", oci.Errorf(oci.CodeQueryInvalid, "the configuration of the engine writes its registries in a way that is not changed here; write them as [[registry]]")
	}
	return text + "\n" + mirror, nil
}

func insert(lines []string, at int, text string) string {
	return strings.Join(lines[:at], "") + text + strings.Join(lines[at:], "")
}

// Hosts returns the registries whose images cluster nodes can look for at a place, with the
// rules that such files cannot say: they know registries, and no other names.
func Hosts(items []packing.Item, place Place) (registries []string, not []Rule) {
	for _, i := range items {
		switch {
		case i.Ref.Registry == place.Registry:
		case i.Name != i.Ref.Name:
			not = append(not, Rule{i.Ref.Registry + "/" + string(i.Ref.Name), place.at(string(i.Name))})
		default:
			registries = append(registries, i.Ref.Registry)
		}
	}
	slices.Sort(registries)
	return slices.Compact(registries), not
}

// HostFile is where such a file stands in the folder of nodes, for one registry.
func HostFile(registry string) string { return strings.ReplaceAll(registry, "/", "_") + "/hosts.toml" }

// nodeFile is what is read of a file about one registry.
type nodeFile struct {
	Server string         `toml:"server"`
	Host   map[string]any `toml:"host"`
}

// Node writes the file that cluster nodes read of one registry, hosts.toml: into what it is
// now, or into an empty one. The place is asked before the hosts that stand in it, and the
// registry itself, at its own address with its scheme, after all. authority is the path of a
// certificate on the node.
func Node(now []byte, registry, own string, place Place, authority string) ([]byte, error) {
	var was nodeFile
	if err := toml.Unmarshal(now, &was); err != nil {
		return nil, oci.Errorf(oci.CodeQueryInvalid, "the file about %s cannot be read: %v", registry, err)
	}
	host := "https://" + place.Registry
	if place.Plain {
		host = "http://" + place.Registry
	}
	said := "capabilities = [\"pull\", \"resolve\"]\n"
	if place.ByDigest {
		said = "capabilities = [\"pull\"]\n"
	}
	if place.Prefix != "" {
		host += "/v2/" + string(place.Prefix)
		said += "override_path = true\n"
	}
	if place.Authority {
		said += fmt.Sprintf("ca = %q\n", authority)
	}
	if _, there := was.Host[host]; there {
		return now, nil
	}
	block := fmt.Sprintf("[host.%q]\n%s", host, said)
	text := string(now)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	if was.Server == "" {
		text = fmt.Sprintf("server = %q\n", own) + text
	}
	lines := strings.SplitAfter(text, "\n")
	at := slices.IndexFunc(lines, func(line string) bool { return header.MatchString(line) })
	if at < 0 {
		text = strings.TrimRight(text, "\n") + "\n\n" + block
	} else {
		text = insert(lines, at, block+"\n")
	}
	var is nodeFile
	if err := toml.Unmarshal([]byte(text), &is); err != nil {
		return nil, fmt.Errorf("what would be written cannot be read: %w", err)
	}
	return []byte(text), nil
}

// The tables of the node's own configuration that say where such files are, by its version.
var nodeTables = map[int64]string{2: `plugins."io.containerd.grpc.v1.cri".registry`, 3: `plugins."io.containerd.cri.v1.images".registry`}

// nodeOwn is what is read of a node's own configuration.
type nodeOwn struct {
	Version int64                     `toml:"version"`
	Plugins map[string]map[string]any `toml:"plugins"`
}

// folderSaid is where the configuration says that the files are, "" for nowhere.
func (n nodeOwn) folderSaid() string {
	for _, plugin := range n.Plugins {
		registry, _ := plugin["registry"].(map[string]any)
		if folder, _ := registry["config_path"].(string); folder != "" {
			return folder
		}
	}
	return ""
}

// NodeOwn writes into the configuration of a node, config.toml, where the files about
// registries are, and returns where that is. One that says so already stays as it is; one that
// has its mirrors in itself is refused.
func NodeOwn(now []byte, folder string) (raw []byte, in string, err error) {
	var was nodeOwn
	if err := toml.Unmarshal(now, &was); err != nil {
		return nil, "", oci.Errorf(oci.CodeQueryInvalid, "the configuration of the node cannot be read: %v", err)
	}
	if said := was.folderSaid(); said != "" {
		return now, said, nil
	}
	version := was.Version
	if len(bytes.TrimSpace(now)) == 0 {
		version = 2
	}
	table, known := nodeTables[version]
	if !known {
		return nil, "", oci.Errorf(oci.CodeQueryInvalid, "the configuration of the node is of the version %d, and 2 and 3 are understood; set config_path = %q in it by hand", version, folder)
	}
	for _, plugin := range was.Plugins {
		registry, _ := plugin["registry"].(map[string]any)
		if registry["mirrors"] != nil || registry["configs"] != nil {
			return nil, "", oci.Errorf(oci.CodeQueryInvalid, "the configuration of the node has its mirrors in itself, which it does not read beside config_path; write them as files in %s first", folder)
		}
	}
	text := string(now)
	if len(bytes.TrimSpace(now)) == 0 {
		text = "version = 2\n"
	}
	line := fmt.Sprintf("config_path = %q\n", folder)
	lines := strings.SplitAfter(strings.TrimRight(text, "\n")+"\n", "\n")
	at := slices.IndexFunc(lines, func(l string) bool {
		return strings.Join(strings.Fields(strings.SplitN(l, "#", 2)[0]), "") == "["+table+"]"
	})
	if at >= 0 {
		// A line that says that it is nowhere gives way.
		end := at + 1
		for end < len(lines) && !header.MatchString(lines[end]) {
			if strings.HasPrefix(strings.TrimSpace(lines[end]), "config_path") {
				lines[end] = ""
			}
			end++
		}
		text = insert(lines, at+1, "  "+line)
	} else {
		text = strings.Join(lines, "") + "\n[" + table + "]\n  " + line
	}
	var is nodeOwn
	if err := toml.Unmarshal([]byte(text), &is); err != nil || is.folderSaid() != folder {
		return nil, "", oci.Errorf(oci.CodeQueryInvalid, "the configuration of the node is written in a way that is not changed here; set config_path = %q below [%s] by hand", folder, table)
	}
	return []byte(text), folder, nil
}
