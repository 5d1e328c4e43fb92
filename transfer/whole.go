package transfer

import (
	"errors"
	"runtime"
	"slices"
	"sync"

	"fencepost/rr"
	"fencepost/zone"
)

// Whole is a zone with all its records (RFC 5936 §2.2).
func Whole(z *zone.Snapshot) Body { return whole{z} }

type whole struct{ z *zone.Snapshot }

func (t whole) send(w *writer, f form, expire int64) error {
	var apex zone.Node
	t.z.ApexNode(&apex)
	soa, ok := apex.Find(rr.TypeSOA)
	if !ok {
		return errors.New("the zone has no SOA record")
	}
	p := &pieces{form: f, parts: slices.Collect(t.z.Parts), soa: soa, expire: expire}
	if n := min(len(p.parts), runtime.GOMAXPROCS(0), mostHelpers); n > 1 {
		return p.together(w, n)
	}
	return p.alone(w)
}

// pieces is how a zone is sent: the messages of one part after those of another.
type pieces struct {
	form
	parts  []zone.Part
	soa    zone.RRset
	expire int64

	stop chan struct{} // closed when nothing more is sent
	free sync.Pool     // of memory for messages
}

// mostHelpers is how many goroutines make the messages of a large zone while others are sent:
// each holds what it has made until it is sent, also where the client is slow.
const mostHelpers = 4

// busy holds a place for each piece that is being made, of all transfers together.
var busy = make(chan struct{}, runtime.GOMAXPROCS(0))

// piece is the messages of one part.
type piece struct {
	messages [][]byte
	err      error
}

// alone makes one message after another and sends it.
func (p *pieces) alone(w *writer) error {
	memory := make([]byte, 0, messageRoom)
	for i := range p.parts {
		err := p.encode(i, memory, func(msg []byte) (buf []byte, err error) {
			memory, err = w.send(msg)
			return memory, err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// together sends what n helpers make: the k-th makes the messages of the parts k, k+n, k+2n and
// so on, and waits with each until it is taken.
func (p *pieces) together(w *writer, n int) error {
	p.stop = make(chan struct{})
	p.free.New = func() any { return new([messageRoom]byte) }
	var wg sync.WaitGroup
	defer wg.Wait()
	defer close(p.stop)
	made := make([]chan piece, n)
	for k := range made {
		made[k] = make(chan piece)
		wg.Go(func() { p.help(made[k], k, n) })
	}
	for i := range p.parts {
		piece := <-made[i%n]
		for _, msg := range piece.messages {
			msg, err := w.send(msg)
			if err != nil {
				return err
			}
			p.release(msg)
		}
		if piece.err != nil {
			return piece.err
		}
	}
	return nil
}

// help is one helper.
func (p *pieces) help(made chan<- piece, k, n int) {
	for i := k; i < len(p.parts); i += n {
		var out piece
		busy <- struct{}{}
		out.err = p.encode(i, p.memory(), func(msg []byte) ([]byte, error) {
			out.messages = append(out.messages, msg)
			return p.memory(), nil
		})
		<-busy
		select {
		case made <- out:
		case <-p.stop:
			return
		}
	}
}

// encode makes the messages of the part i: the first of all begins with the SOA, and the last
// ends with it (RFC 5936 §2.2).
func (p *pieces) encode(i int, memory []byte, emit func([]byte) ([]byte, error)) error {
	expire := int64(-1)
	if i == 0 {
		expire = p.expire
	}
	e := p.encoder(emit, memory, expire)
	var err error
	if i == 0 {
		err = e.set(nil, rr.TypeSOA, p.soa.TTL, p.soa.Items())
	}
	for w := p.parts[i].Walk(); err == nil && w.Next(); {
		if w.Type == rr.TypeSOA && len(w.Relative) == 0 {
			continue
		}
		if rest := e.b.TransferSet(w.Relative, w.Type, w.TTL, w.Items); len(rest) > 0 {
			err = e.set(w.Relative, w.Type, w.TTL, rest)
		}
	}
	if err == nil && i == len(p.parts)-1 {
		err = e.set(nil, rr.TypeSOA, p.soa.TTL, p.soa.Items())
	}
	if err != nil {
		return err
	}
	return e.finish()
}

func (p *pieces) memory() []byte { return p.free.Get().(*[messageRoom]byte)[:0] }

// release lets the memory of a message be used again, unless it had to be larger.
func (p *pieces) release(msg []byte) {
	if cap(msg) >= messageRoom {
		p.free.Put((*[messageRoom]byte)(msg[:messageRoom]))
	}
}
