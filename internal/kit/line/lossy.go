package line

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"time"

	"golang.org/x/sys/unix"
)

// Lossy is what a bad line does to packets.
type Lossy struct {
	// Each is how long a packet takes for each way, Jitter up to how much longer some take.
	Each, Jitter time.Duration
	// Loss is the share of packets that are lost.
	Loss float64
	// Rate is in bytes a second, for each way.
	Rate float64
}

// mostQueued is how many packets wait for a line; more are lost.
const mostQueued = 256

// Place is a network of its own, in which functions run.
type Place struct{ calls chan func() }

// Do runs a function there. What it starts is there as well.
func (p *Place) Do(call func()) {
	done := make(chan struct{})
	p.calls <- func() { defer close(done); call() }
	<-done
}

// Connect makes a new network beside that of this process, and a line between them: this
// process is near at one end, the new network far at the other. It needs root, and is for a
// process whose network is its own. The line ends with the process.
func (l Lossy) Connect(near, far string) (*Place, error) {
	there := &Place{make(chan func())}
	go func() {
		// The thread is never given back: its network would come along.
		runtime.LockOSThread()
		for call := range there.calls {
			call()
		}
	}()
	var nearEnd, farEnd *os.File
	err := loopback()
	if err == nil {
		nearEnd, err = tunnel("line0", near, far)
	}
	there.Do(func() {
		if err == nil {
			err = unix.Unshare(unix.CLONE_NEWNET)
		}
		if err == nil {
			err = loopback()
		}
		if err == nil {
			farEnd, err = tunnel("line0", far, near)
		}
	})
	if err != nil {
		return nil, err
	}
	go l.carry(farEnd, nearEnd)
	go l.carry(nearEnd, farEnd)
	return there, nil
}

// carry carries packets one way.
func (l Lossy) carry(to, from *os.File) {
	queue := make(chan piece, mostQueued)
	go func() {
		for p := range queue {
			time.Sleep(time.Until(p.at))
			_, _ = to.Write(p.raw)
		}
	}()
	free := time.Now()
	for {
		raw := make([]byte, 2000)
		n, err := from.Read(raw)
		if err != nil {
			close(queue)
			return
		}
		if rand.Float64() < l.Loss {
			continue
		}
		now := time.Now()
		if free.Before(now) {
			free = now
		}
		free = free.Add(time.Duration(float64(n) / l.Rate * float64(time.Second)))
		select {
		case queue <- piece{raw[:n], free.Add(l.Each + rand.N(l.Jitter+1))}:
		default:
		}
	}
}

// set sets an address, or flags, of an interface.
func set(name string, what uint, fill func(*unix.Ifreq) error) error {
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return err
	}
	defer unix.Close(socket)
	request, err := unix.NewIfreq(name)
	if err != nil {
		return err
	}
	if err := fill(request); err != nil {
		return err
	}
	return unix.IoctlIfreq(socket, what, request)
}

func up(name string) error {
	return set(name, unix.SIOCSIFFLAGS, func(r *unix.Ifreq) error { r.SetUint16(unix.IFF_UP | unix.IFF_RUNNING); return nil })
}

func loopback() error { return up("lo") }

// tunnel makes an interface from an address to another, whose packets are read and written.
func tunnel(name, own, other string) (*os.File, error) {
	file, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("open /dev/net/tun: %w", err)
	}
	request, err := unix.NewIfreq(name)
	if err != nil {
		return nil, err
	}
	request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(file, unix.TUNSETIFF, request); err != nil {
		return nil, fmt.Errorf("make an interface: %w", err)
	}
	address := func(is string) func(*unix.Ifreq) error {
		return func(r *unix.Ifreq) error {
			var ip [4]byte
			_, err := fmt.Sscanf(is, "%d.%d.%d.%d", &ip[0], &ip[1], &ip[2], &ip[3])
			return errors.Join(err, r.SetInet4Addr(ip[:]))
		}
	}
	return os.NewFile(uintptr(file), name), errors.Join(
		set(name, unix.SIOCSIFADDR, address(own)), set(name, unix.SIOCSIFDSTADDR, address(other)), up(name))
}
