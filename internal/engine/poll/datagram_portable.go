package poll

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"

	"tidepull/internal/base/mono"
)

// ListenDatagrams implements Driver.
func (p *portable) ListenDatagrams(at netip.AddrPort) (netip.AddrPort, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return at, fmt.Errorf("listen for datagrams at %v: %w", at, err)
	}
	p.forPeers, p.peers = conn, map[netip.AddrPort]int32{}
	p.running.Go(func() {
		for {
			buf := p.buffers.Get().(*[readSize]byte)
			n, from, err := conn.ReadFromUDPAddrPort(buf[:])
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err == nil { // an error is of one that was sent, and came to nobody
				p.tell(happening{what: 'p', from: from, data: buf[:n], came: mono.At(mono.Now())})
			}
		}
	})
	return conn.LocalAddr().(*net.UDPAddr).AddrPort(), nil
}

// fromPeer hands over a datagram of somebody who may be new.
func (p *portable) fromPeer(e happening, h Handler) {
	id, known := p.peers[e.from]
	if !known && len(p.peers) < maxPeers {
		id = p.Reserve()
		l := newLine()
		l.datagrams, l.peer = true, e.from
		c := &p.conns[id]
		c.line, c.generation = l, c.generation+1
		p.peers[e.from] = id
		h.Accepted(id)
	}
	if l := p.open(id); l != nil && l.peer == e.from && !l.held {
		h.Data(id, e.data, e.came)
	}
	p.buffers.Put((*[readSize]byte)(e.data[:readSize]))
}

// writeDatagram sends one. A socket for datagrams does not block but for a moment.
func (p *portable) writeDatagram(id int32, l *line, b []byte) bool {
	if l.peer.IsValid() {
		_, err := p.forPeers.WriteToUDPAddrPort(b, l.peer)
		return err == nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil { // it is not open yet
		l.early = append(l.early, bytes.Clone(b))
		return true
	}
	_, err := l.conn.Write(b)
	if err == nil {
		return true
	}
	if errors.Is(err, syscall.EMSGSIZE) {
		return false
	}
	generation := p.conns[id].generation
	p.running.Go(func() { // the owner, who is here, takes it out of the channel
		p.tell(happening{id: id, generation: generation, what: 'b', err: err})
	})
	return false
}

// IsDatagrams implements Driver.
func (p *portable) IsDatagrams(id int32) bool {
	l := p.open(id)
	return l != nil && l.datagrams
}

// Dropped implements Driver: nobody says.
func (p *portable) Dropped() int { return 0 }
