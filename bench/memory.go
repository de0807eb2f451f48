package main

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
)

// memory prints the peak above idle while a blob far larger passes in and out.
func (b *bench) memory() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	// One small round first, so that idle means a service that has worked before.
	if err := upload(s.address, "bench/memory", b.fresh(), bytesReader(b.block), int64(b.size)); err != nil {
		return err
	}
	blob := func() io.Reader { return &repeated{block: b.block, length: b.large} }
	h := sha256.New()
	if _, err := io.Copy(h, blob()); err != nil {
		return err
	}
	digest := fmt.Sprintf("sha256:%x", h.Sum(nil))
	if _, err := peak(s.cmd.Process.Pid); err != nil {
		return err
	}
	idle, err := peak(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	if err := upload(s.address, "bench/memory", digest, blob(), b.large); err != nil {
		return err
	}
	if _, err := download(s.address+"/v2/bench/memory/blobs/"+digest, b.large); err != nil {
		return err
	}
	most, err := peak(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	fmt.Printf("%-42s %8.1f MiB above %.0f MiB idle\n", fmt.Sprintf("peak memory, %d MiB in and out", b.large/mib), most-idle, idle)
	return nil
}

// peak returns the process's peak of resident memory in MiB since it was last
// asked, and starts anew.
func peak(pid int) (float64, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			if err != nil {
				return 0, err
			}
			return kib / 1024, os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0o200)
		}
	}
	return 0, fmt.Errorf("the kernel does not tell the peak memory")
}

// repeated is a block over and over, up to a length.
type repeated struct {
	block      []byte
	at, length int64
}

func (r *repeated) Read(p []byte) (int, error) {
	if r.at == r.length {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), r.length-r.at)]
	n := copy(p, r.block[r.at%int64(len(r.block)):])
	r.at += int64(n)
	return n, nil
}
