package inside

import (
	"cmp"
	"errors"
	"net"
	"strconv"
	"syscall"
	"time"

	"yardbench/internal/steward"
)

// silent is how long nothing comes from either side until datagrams are passed on no
// more: nothing says that an exchange by UDP is over.
const silent = 2 * time.Minute

// datagrams passes datagrams on, to a port and back.
func (s *server) datagrams(c *steward.Conn, service string, port int) {
	conn, err := net.Dial("udp", net.JoinHostPort(cmp.Or(service, "127.0.0.1"), strconv.Itoa(port)))
	if err != nil {
		_ = c.Send(steward.Reply{Problem: err.Error()}) // a stream that broke has no reader
		return
	}
	defer conn.Close()
	if c.Send(steward.Reply{}) != nil {
		return
	}
	idle := time.AfterFunc(silent, func() { conn.Close(); c.Stream.Close() })
	defer idle.Stop()
	go func() {
		defer conn.Close()
		buf := make([]byte, steward.MaxDatagram)
		for {
			p, err := steward.ReadDatagram(c.Stream, buf)
			if err != nil {
				return
			}
			idle.Reset(silent)
			if _, err := conn.Write(p); err != nil && !passes(err) {
				return
			}
		}
	}()
	buf := make([]byte, steward.MaxDatagram)
	for {
		n, err := conn.Read(buf)
		if err != nil && !passes(err) {
			return
		}
		if err != nil {
			continue
		}
		idle.Reset(silent)
		if steward.WriteDatagram(c.Stream, buf[:n]) != nil {
			return
		}
	}
}

// passes tells whether an error is that nobody listens now: datagrams are lost then,
// as they may be.
func passes(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.EMSGSIZE)
}
