package demo

import (
	"fmt"
	"strings"
	"time"

	"warthesis/internal/oci"
)

// days is how far back the history of the sample world goes.
const days = 90

var (
	amd64 = oci.Platform{OS: "linux", Architecture: "amd64"}
	arm64 = oci.Platform{OS: "linux", Architecture: "arm64"}
)

// application describes the images of one repository.
type application struct {
	name      oci.Name
	runtime   string
	platforms []oci.Platform
	// code is the size of the program in bytes, before it is packed.
	code int
	run  run
	// ci pushes it, and cluster pulls it.
	ci, cluster string
	// versions are pushed evenly over the days, the last of them recently.
	versions []string
	// nights is how many of the last nights have a build of their own.
	nights int
	// commits tells that each version also carries the tag of its commit.
	commits bool
	about   string
}

var applications = []application{
	{
		name: "timetable/planner", runtime: "go-runtime", platforms: []oci.Platform{amd64, arm64}, code: 300 << 10,
		run: run{user: "planner", directory: "/srv", entrypoint: []string{"/usr/bin/planner"}, cmd: []string{"--listen", ":8080"},
			env: []string{"TIMETABLE=/srv/timetable.db"}, ports: []string{"8080/tcp"}},
		ci: "ci-timetable", cluster: "cluster-north",
		versions: []string{"2.1.0", "2.1.1", "2.2.0", "2.3.0", "2.3.1", "2.4.0", "2.4.1"}, nights: 21,
		about: "Finds a way from one city to another through the night",
	},
	{
		name: "timetable/board", runtime: "node-runtime", platforms: []oci.Platform{amd64, arm64}, code: 120 << 10,
		run: run{user: "board", directory: "/srv/board", entrypoint: []string{"/usr/bin/node"}, cmd: []string{"board.js"},
			env: []string{"STATION=all"}, ports: []string{"3000/tcp"}},
		ci: "ci-timetable", cluster: "cluster-north", versions: []string{"1.7.0", "1.8.0", "1.8.1", "1.9.0"},
		about: "The departure boards of the stations",
	},
	{
		name: "berths/seatmap", runtime: "node-runtime", platforms: []oci.Platform{amd64}, code: 90 << 10,
		run: run{user: "1000", directory: "/srv", entrypoint: []string{"/usr/bin/node", "seatmap.js"}, ports: []string{"3000/tcp"}},
		ci:  "ci-berths", cluster: "cluster-north", versions: []string{"0.9.0", "1.0.0", "1.0.1", "1.1.0", "1.2.0"}, commits: true,
		about: "Draws the beds of a carriage and which are free",
	},
	{
		name: "berths/pricing", runtime: "go-runtime", platforms: []oci.Platform{amd64}, code: 200 << 10,
		run: run{user: "1000", entrypoint: []string{"/usr/bin/pricing"}, env: []string{"CURRENCY=EUR"}, ports: []string{"8080/tcp"}},
		ci:  "ci-berths", cluster: "cluster-north", versions: []string{"3.0.0", "3.1.0", "3.1.1", "3.2.0"}, commits: true,
		about: "What a bed costs tonight",
	},
	{
		name: "berths/checkout", runtime: "go-runtime", platforms: []oci.Platform{amd64}, code: 260 << 10,
		run: run{user: "1000", entrypoint: []string{"/usr/bin/checkout"}, ports: []string{"8443/tcp"}},
		ci:  "ci-berths", cluster: "cluster-north", versions: []string{"1.3.0", "1.4.0", "1.4.1", "1.5.0", "1.5.1", "1.6.0"}, commits: true,
		about: "Sells a bed",
	},
	{
		name: "rolling/telemetry", runtime: "go-runtime", platforms: []oci.Platform{amd64, arm64}, code: 180 << 10,
		run: run{entrypoint: []string{"/usr/bin/telemetry"}, env: []string{"BUS=/dev/can0"}},
		ci:  "marit", cluster: "depot-tarn", versions: []string{"5.0.0", "5.1.0", "5.1.1"},
		about: "What the carriages report on the way",
	},
	{
		name: "rolling/brakes-model", runtime: "go-runtime", platforms: []oci.Platform{amd64, arm64}, code: 700 << 10,
		run: run{entrypoint: []string{"/usr/bin/brakes-model"}, labels: map[string]string{"org.opencontainers.image.licenses": "proprietary"}},
		ci:  "marit", cluster: "depot-tarn", versions: []string{"2025.4", "2026.1"},
		about: "Predicts the wear of brake pads",
	},
	{
		name: "signals/relay", runtime: "go-runtime", platforms: []oci.Platform{amd64, arm64}, code: 150 << 10,
		run: run{user: "relay", entrypoint: []string{"/usr/bin/relay"}, env: []string{"BOX=14"}},
		ci:  "jun", cluster: "cluster-north", versions: []string{"4.0.0", "4.0.1", "4.1.0", "4.2.0"},
		about: "Carries orders to the signal boxes",
	},
	{
		name: "outside/lamp-proxy", runtime: "", platforms: []oci.Platform{amd64, arm64}, code: 500 << 10,
		run: run{entrypoint: []string{"/lamp-proxy"}, ports: []string{"80/tcp", "443/tcp"}},
		ci:  "ines", cluster: "cluster-north", versions: []string{"1.21.0", "1.22.0"},
		about: "A copy of another company's proxy",
	},
	{
		name: "outside/quarry-db", runtime: "", platforms: []oci.Platform{amd64, arm64}, code: 1200 << 10,
		run: run{user: "quarry", directory: "/data", entrypoint: []string{"/usr/bin/quarry"}, ports: []string{"6100/tcp"}},
		ci:  "ines", cluster: "cluster-north", versions: []string{"16.2", "16.3"},
		about: "A copy of another company's database",
	},
}

// baseVersions are the versions of the shared base images, oldest first.
var baseVersions = []string{"12.4", "12.5", "12.6"}

// baseAt returns the base version in use at a step of a history of n steps.
func baseAt(step, n int) string {
	return baseVersions[min(len(baseVersions)-1, step*len(baseVersions)/max(1, n))]
}

// layers makes the layers that images share, each once.
type layers struct{ made map[string]layer }

func (l *layers) get(kind, version string, p oci.Platform, code, text int) (layer, error) {
	key := kind + version + oci.PlatformString(&p)
	if there, ok := l.made[key]; ok {
		return there, nil
	}
	made, err := platformLayer(kind, version, p, code, text)
	l.made[key] = made
	return made, err
}

// lower returns the layers below an application: the operating system, and the
// runtime where there is one. What other companies publish shares nothing with ours.
func (l *layers) lower(runtime, base string, p oci.Platform) ([]layer, error) {
	if runtime == "" {
		return nil, nil
	}
	os, err := l.get("larkspur-os", base, p, 900<<10, 300<<10)
	if err != nil || runtime == "os" {
		return []layer{os}, err
	}
	code := map[string]int{"go-runtime": 250 << 10, "node-runtime": 600 << 10}[runtime]
	above, err := l.get(runtime, base, p, code, 80<<10)
	return []layer{os, above}, err
}

// build makes one version of an application, for all its platforms.
func (a application) build(shared *layers, version, base string) (image, error) {
	short := strings.TrimPrefix(string(a.name), a.name.Namespace()+"/")
	var images []image
	for _, p := range a.platforms {
		below, err := shared.lower(a.runtime, base, p)
		if err != nil {
			return image{}, err
		}
		seed := fmt.Sprintf("%s %s %s", a.name, version, oci.PlatformString(&p))
		program, err := newLayer("copy "+short+" "+version, []file{
			{"usr/bin/" + short, 0o755, machineCode(random(seed), a.code)},
			{"srv/" + short + "/rules.txt", 0o644, prose(random(string(a.name)), a.code/2)},
		})
		if err != nil {
			return image{}, err
		}
		settings, err := newLayer("copy settings", []file{
			{"etc/" + short + ".conf", 0o644, []byte("version = " + version + "\nlog = plain\n")},
		})
		if err != nil {
			return image{}, err
		}
		one, err := newImage(p, append(below, program, settings), a.run)
		if err != nil {
			return image{}, err
		}
		images = append(images, one)
	}
	if len(images) == 1 {
		return images[0], nil
	}
	return newIndex(a.platforms, images, map[string]string{
		"org.opencontainers.image.title":       short,
		"org.opencontainers.image.version":     version,
		"org.opencontainers.image.description": a.about,
		"org.opencontainers.image.vendor":      "Larkspur Night Rail",
	})
}

// buildBase makes a base image: the operating system, alone or below a runtime.
func buildBase(shared *layers, runtime, version string) (image, error) {
	platforms := []oci.Platform{amd64, arm64}
	var images []image
	for _, p := range platforms {
		below, err := shared.lower(runtime, version, p)
		if err != nil {
			return image{}, err
		}
		one, err := newImage(p, below, run{cmd: []string{"/bin/sh"}})
		if err != nil {
			return image{}, err
		}
		images = append(images, one)
	}
	return newIndex(platforms, images, map[string]string{"org.opencontainers.image.title": runtime, "org.opencontainers.image.version": version})
}

// buildInterlock makes a version of the configuration package of the signal boxes.
func buildInterlock(version string) (image, error) {
	raw := fmt.Appendf(nil, "box: 14\nversion: %s\nroutes:\n", version)
	for n := range 40 {
		raw = fmt.Appendf(raw, "  - {from: P%d, to: P%d, locks: [S%d, S%d]}\n", n, (n*7)%40, n%9, (n+len(version))%9)
	}
	return newPackage("application/vnd.larkspur.interlock.v1", "interlock.yaml", raw,
		map[string]string{"org.opencontainers.image.version": version})
}

// day returns a moment of the history: so many days after its start, at an hour.
func day(n float64, hour int) time.Duration {
	return time.Duration(n*24)*time.Hour + time.Duration(hour)*time.Hour
}
