package metrics

import (
	"errors"
	"net"
	"net/http"
	"sync"
	"time"
)

// Serve answers at an address, under /metrics, until the function it gives is called. ended
// hears why if it ends by itself. The error is that of listening there.
func (c *Collector) Serve(address string, ended func(error)) (at net.Addr, end func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, nil, err
	}
	mux := http.NewServeMux()
	mux.Handle("/metrics", c.Handler())
	s := &http.Server{Handler: mux, ReadTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second,
		IdleTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10}
	go func() {
		err := s.Serve(&limited{Listener: l, free: make(chan struct{}, maxConnections)})
		if !errors.Is(err, http.ErrServerClosed) {
			ended(err)
		}
	}()
	return l.Addr(), func() { _ = s.Close() }, nil // what is left is the readers'
}

// maxConnections is how many gatherers may be connected at once: no more
// descriptors than that are theirs.
const maxConnections = 32

// limited is a listener with so many connections at once; further ones wait.
type limited struct {
	net.Listener
	free chan struct{}
}

func (l *limited) Accept() (net.Conn, error) {
	l.free <- struct{}{}
	c, err := l.Listener.Accept()
	if err != nil {
		<-l.free
		return nil, err
	}
	return &counted{Conn: c, done: sync.OnceFunc(func() { <-l.free })}, nil
}

// counted is a connection that gives its place up when it is closed.
type counted struct {
	net.Conn
	done func()
}

func (c *counted) Close() error {
	defer c.done()
	return c.Conn.Close()
}
