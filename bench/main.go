// Command bench measures the service against yardsticks on the same machine and
// prints ratios: medians of interleaved pairs, so that what else the machine does
// meets both sides alike.
package main

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

const mib = 1 << 20

func main() {
	binary := flag.String("binary", "bin/warthesis", "the program to measure")
	pairs := flag.Int("pairs", 5, "pairs of runs for each figure")
	size := flag.Int("size", 512, "size of the blob in MiB")
	large := flag.Int("large", 4096, "size in MiB of the blob by which memory is measured")
	only := flag.String("only", "", "measure only what has this in its name")
	receiver := flag.String("receiver", "", "be the bare receiver, writing to this folder")
	bare := flag.Bool("gin", false, "be the bare Gin handler")
	flag.Parse()
	if *bare {
		log.Fatal(bareGin())
	}
	if *receiver != "" {
		log.Fatal(receive(*receiver))
	}
	b := &bench{binary: *binary, pairs: *pairs, size: *size * mib, large: int64(*large) * mib, only: *only}
	if err := b.run(); err != nil {
		log.Fatal(err)
	}
}

type bench struct {
	binary string
	pairs  int
	size   int
	large  int64
	only   string
	folder string
	block  []byte
	count  uint64
}

func (b *bench) run() error {
	var err error
	if b.folder, err = os.MkdirTemp("", "warthesis-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.folder)
	b.block = randomBytes(b.size)
	fmt.Printf("%-42s %12s %12s %8s\n", "", "warthesis", "yardstick", "ratio")
	for _, part := range []struct {
		name string
		do   func() error
	}{
		{"hash", b.hash}, {"pull", b.pull}, {"push", b.push}, {"tls", b.pullTLS}, {"manifests", b.manifests}, {"logins", b.logins}, {"commits", b.commits},
		{"second", b.second}, {"scale", b.scale}, {"tags", b.tags}, {"memory", b.memory}, {"follow", b.follow}, {"replicate copies", b.replicateLarge}, {"replicate many", b.replicateMany},
	} {
		if !strings.Contains(part.name, b.only) {
			continue
		}
		if err := part.do(); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	return nil
}

func randomBytes(n int) []byte {
	p := make([]byte, n)
	chacha := rand.NewChaCha8([32]byte{7})
	_, _ = chacha.Read(p)
	return p
}

// fresh changes the block, so that no two pushes have one digest, and returns that.
func (b *bench) fresh() string {
	b.count++
	copy(b.block, strconv.FormatUint(b.count, 10)+"                ")
	return fmt.Sprintf("sha256:%x", sha256.Sum256(b.block))
}

// pair runs both sides in turn and prints the medians and their ratio. The runs
// return seconds.
func (b *bench) pair(name string, bytes float64, ours, yardstick func() (time.Duration, error)) error {
	var a, y, ratios []float64
	for i := range b.pairs + 1 {
		first, second := ours, yardstick
		if i%2 == 1 {
			first, second = yardstick, ours
		}
		t1, err := first()
		if err != nil {
			return err
		}
		t2, err := second()
		if err != nil {
			return err
		}
		if i%2 == 1 {
			t1, t2 = t2, t1
		}
		// The first pair warms caches and is not counted.
		if i > 0 {
			a, y, ratios = append(a, bytes/mib/t1.Seconds()), append(y, bytes/mib/t2.Seconds()), append(ratios, t2.Seconds()/t1.Seconds())
		}
	}
	fmt.Printf("%-42s %7.0f MiB/s %6.0f MiB/s %8.2f\n", name, median(a), median(y), median(ratios))
	return nil
}

// waits is pair of what is waited for: it prints milliseconds, and how many times as long ours
// takes.
func (b *bench) waits(name string, ours, yardstick func() (time.Duration, error)) error {
	var a, y, ratios []float64
	for i := range 2*b.pairs + 1 {
		t1, err := ours()
		if err != nil {
			return err
		}
		t2, err := yardstick()
		if err != nil {
			return err
		}
		if i > 0 {
			a, y, ratios = append(a, t1.Seconds()*1000), append(y, t2.Seconds()*1000), append(ratios, t1.Seconds()/t2.Seconds())
		}
	}
	fmt.Printf("%-42s %9.1f ms %9.1f ms %8.2f\n", name, median(a), median(y), median(ratios))
	return nil
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// hash prints the wall for pushes.
func (b *bench) hash() error {
	began := time.Now()
	sha256.Sum256(b.block)
	fmt.Printf("%-42s %12s %6.0f MiB/s\n", "sha256 of one core", "", float64(b.size)/mib/time.Since(began).Seconds())
	return nil
}
