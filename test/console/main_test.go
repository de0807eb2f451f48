package console

import (
	"log"
	"os"
	"testing"
)

// shared is a folder for what several tests start from. It goes when all are done.
var shared string

func TestMain(m *testing.M) {
	var err error
	if shared, err = os.MkdirTemp("", "warthesis-tests-"); err != nil {
		log.Fatal(err)
	}
	code := m.Run()
	os.RemoveAll(shared)
	os.Exit(code)
}
