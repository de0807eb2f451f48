package image

import (
	"fmt"
	"io"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// transferReport is what push and pull print for scripts.
type transferReport struct {
	Digest       oci.Digest `json:"digest"`
	MediaType    string     `json:"media_type"`
	References   []string   `json:"references"`
	MovedBlobs   int        `json:"moved_blobs"`
	MovedBytes   int64      `json:"moved_bytes"`
	SkippedBlobs int        `json:"skipped_blobs"`
	SkippedBytes int64      `json:"skipped_bytes"`

	// short are the references as they were given.
	short []oci.Reference
}

// add adds what a transfer moved, and the names that it has there.
func (report *transferReport) add(w *term.Watcher, refs []oci.Reference) {
	report.MovedBlobs += w.Moved.Count
	report.MovedBytes += w.Moved.Bytes
	report.SkippedBlobs += w.Skipped.Count
	report.SkippedBytes += w.Skipped.Bytes
	for _, ref := range refs {
		report.References = append(report.References, ref.WithDigest(report.Digest).String())
	}
	report.short = append(report.short, refs...)
}

// reportTransfer says what moved, and the names to copy.
func reportTransfer(c *site.Call, verb string, report transferReport) error {
	return c.Tell(report, func() { report.write(c.T.Out, verb) })
}

func (report *transferReport) write(to io.Writer, verb string) {
	fmt.Fprintf(to, "%s %s: %s moved (%s), %s already there (%s)\n", verb, report.short[0],
		term.Count(report.MovedBlobs, "blob", "blobs"), term.Size(report.MovedBytes), term.Count(report.SkippedBlobs, "blob", "blobs"), term.Size(report.SkippedBytes))
	fmt.Fprintf(to, "Digest:    %s\n", report.Digest)
	for _, ref := range report.References {
		fmt.Fprintf(to, "Reference: %s\n", ref)
	}
}
