// Package line is what lies between two registries that stand far from each other.
package line

import (
	"io"
	"net"
	"time"
)

// Start stands before an address like a line that takes a time for each way: what comes in
// goes out that much later, in order, at any rate.
func Start(to string, each time.Duration) (address string, stop func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			go later(far, near, each)
			go later(near, far, each)
		}
	}()
	return listener.Addr().String(), func() { listener.Close() }, nil
}

// piece is a piece on its way, and when it arrives.
type piece struct {
	raw []byte
	at  time.Time
}

// later copies, a time later, until either end closes.
func later(to io.WriteCloser, from io.ReadCloser, each time.Duration) {
	way := make(chan piece, 4096)
	go func() {
		defer close(way)
		defer from.Close()
		for {
			raw := make([]byte, 64<<10)
			n, err := from.Read(raw)
			if n > 0 {
				way <- piece{raw[:n], time.Now().Add(each)}
			}
			if err != nil {
				return
			}
		}
	}()
	defer to.Close()
	for p := range way {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.raw); err != nil {
			// What is still on its way arrives nowhere.
			for range way {
			}
			return
		}
	}
}
