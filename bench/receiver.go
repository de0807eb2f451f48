package main

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
)

func bytesReader(p []byte) io.Reader { return bytes.NewReader(p) }

// receive is the yardstick for pushes: socket, hash, file, sync, and nothing else.
func receive(folder string) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Printf("http://%s\n", listener.Addr())
	var count atomic.Int64
	return http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f, err := os.Create(filepath.Join(folder, fmt.Sprint(count.Add(1))))
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		defer f.Close()
		h := sha256.New()
		_, err = io.CopyBuffer(io.MultiWriter(h, struct{ io.Writer }{f}), struct{ io.Reader }{r.Body}, make([]byte, 512<<10))
		if err == nil {
			err = f.Sync()
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		h.Sum(nil)
		w.WriteHeader(http.StatusCreated)
	}))
}
