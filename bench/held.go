package main

import (
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
)

// heldLine is a bucket of the histogram of how long changes hold the writer.
var heldLine = regexp.MustCompile(`(?m)^warthesis_records_(change|commit)_seconds_bucket\{(?:change="([^"]+)",)?le="([^"]+)"\} (\S+)$`)

// held prints how long each kind of change held the writer so far: by which bound half,
// and 99 of 100, had ended.
func (s *service) held() error {
	answer, err := client.Get(s.address + "/metrics")
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	type bucket struct {
		bound string
		count float64
	}
	kinds := map[string][]bucket{}
	for _, m := range heldLine.FindAllStringSubmatch(string(raw), -1) {
		kind := m[2]
		if m[1] == "commit" {
			kind = "the commit itself"
		}
		count, err := strconv.ParseFloat(m[4], 64)
		if err != nil {
			return err
		}
		kinds[kind] = append(kinds[kind], bucket{m[3], count})
	}
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		buckets := kinds[kind]
		all := buckets[len(buckets)-1].count
		within := func(share float64) string {
			for _, b := range buckets {
				if b.count >= all*share {
					seconds, _ := strconv.ParseFloat(b.bound, 64)
					return strconv.FormatFloat(seconds*1000, 'g', 3, 64)
				}
			}
			return "+Inf"
		}
		fmt.Printf("%-42s half within %s ms, 99 %% within %s ms, of %.0f\n", "writer held by "+kind, within(.5), within(.99), all)
	}
	return nil
}
