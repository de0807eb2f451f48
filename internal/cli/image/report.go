package image

import (
	"fmt"

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
}

// reportTransfer says what moved, and the names to copy.
func reportTransfer(t term.Terminal, output, verb string, w *term.Watcher, d oci.Descriptor, refs []oci.Reference) error {
	report := transferReport{
		Digest: d.Digest, MediaType: d.MediaType,
		MovedBlobs: w.Moved.Count, MovedBytes: w.Moved.Bytes, SkippedBlobs: w.Skipped.Count, SkippedBytes: w.Skipped.Bytes,
	}
	for _, ref := range refs {
		report.References = append(report.References, ref.WithDigest(d.Digest).String())
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, report)
	}
	fmt.Fprintf(t.Out, "%s %s: %s moved (%s), %s already there (%s)\n", verb, refs[0],
		blobs(report.MovedBlobs), term.Size(report.MovedBytes), blobs(report.SkippedBlobs), term.Size(report.SkippedBytes))
	fmt.Fprintf(t.Out, "Digest:    %s\n", report.Digest)
	for _, ref := range report.References {
		fmt.Fprintf(t.Out, "Reference: %s\n", ref)
	}
	return nil
}

func blobs(n int) string {
	if n == 1 {
		return "1 blob"
	}
	return fmt.Sprintf("%d blobs", n)
}
