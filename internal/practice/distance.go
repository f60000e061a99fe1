package practice

import (
	"net"
	"time"
)

// distance is a connection to somebody far away: what is written arrives later,
// and the writer does not wait for it.
type distance struct {
	net.Conn
	delay time.Duration
	line  chan parcelOfBytes
	done  chan struct{}
}

type parcelOfBytes struct {
	bytes []byte
	due   time.Time
}

// distant puts a connection at a distance; the whole round trip is on the way
// back. arrived waits until all that was written is there, and nothing more can
// be written then.
func distant(conn net.Conn, roundTrip time.Duration) (far net.Conn, arrived func()) {
	if roundTrip == 0 {
		return conn, func() {}
	}
	d := &distance{Conn: conn, delay: roundTrip, line: make(chan parcelOfBytes, 256), done: make(chan struct{})}
	go d.carry()
	return d, func() { close(d.line); <-d.done }
}

func (d *distance) carry() {
	defer close(d.done)
	for p := range d.line {
		time.Sleep(time.Until(p.due))
		if _, err := d.Conn.Write(p.bytes); err != nil {
			for range d.line { // what is still written is lost
			}
			return
		}
	}
}

func (d *distance) Write(b []byte) (int, error) {
	d.line <- parcelOfBytes{append([]byte(nil), b...), time.Now().Add(d.delay)}
	return len(b), nil
}
