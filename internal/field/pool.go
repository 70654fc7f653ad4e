package field

import (
	"runtime"
	"sync"
)

// pool runs carriers that wait for nobody, a few at a time: of thousands that are told
// at once each would else wait for the same locks. A worker ends when there is nothing
// more to do.
type pool struct {
	mu      sync.Mutex
	waiting []*carrier
	next    int // in waiting
	active  int
}

func (p *pool) push(c *carrier) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.waiting = append(p.waiting, c)
	if p.active < runtime.GOMAXPROCS(0) {
		p.active++
		go p.work()
	}
}

func (p *pool) work() {
	for {
		p.mu.Lock()
		if p.next == len(p.waiting) {
			clear(p.waiting)
			p.waiting, p.next = p.waiting[:0], 0
			p.active--
			p.mu.Unlock()
			return
		}
		c := p.waiting[p.next]
		p.next++
		p.mu.Unlock()
		c.run()
	}
}
