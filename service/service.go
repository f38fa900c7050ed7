// Package service is the service as a whole: its work, its API, and the console that the API
// serves. What it is made of is opened by whoever starts it: cmd/plumlatchd from its
// configuration, a test from a database and a stand-in of its own.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"time"

	"plumlatch/service/api"
	"plumlatch/service/kinds"
	"plumlatch/service/store"
)

// Options are how a service is reached.
type Options struct {
	Console fs.FS // the built console
	// Listen is the address that people ask for, and Hosts further ones that a request may be
	// addressed to.
	Listen string
	Hosts  []string
	// CertFile and KeyFile are PEM files, for TLS; "" for none.
	CertFile, KeyFile string
	// Agents is where agents connect, and AgentAddress HOST:PORT that instances dial for it; nil for none. It is the service's own from Start on.
	Agents       net.Listener
	AgentAddress string
	// AgentProgram is the file of the agent's executable, which first boots of launches with an agent fetch; "" for none.
	AgentProgram string
}

// Service is a started service.
type Service struct {
	worker *kinds.Worker
	http   *http.Server
	failed chan error
}

// Start goes on with unfinished work, and answers on the listener, which is its own from here
// on. The worker is wired, and not started. On an error nothing is left running; the worker's
// store and the listener are the caller's to close then.
func Start(ctx context.Context, w *kinds.Worker, listener net.Listener, o Options) (*Service, error) {
	leaf, err := leafOf(o)
	if err != nil {
		return nil, err
	}
	if err := w.Start(ctx); err != nil {
		return nil, err
	}
	if o.Agents != nil {
		w.Agents.Program = o.AgentProgram
		if err := w.Agents.Serve(ctx, o.Agents, o.AgentAddress); err != nil {
			w.Close()
			return nil, err
		}
	}
	closing := make(chan struct{})
	log := w.Door.Log
	s := &Service{worker: w, failed: make(chan error, 1), http: &http.Server{
		Handler: api.New(api.Options{Closing: closing, Store: w.Door.Store, Worker: w,
			Console: o.Console, Listen: o.Listen, Hosts: o.Hosts, TLS: o.CertFile != "", Certificate: leaf, Log: log}),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       60 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    32 << 10,
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}}
	s.http.RegisterOnShutdown(func() { close(closing) })
	go func() {
		serve := s.http.Serve
		if o.CertFile != "" {
			serve = func(l net.Listener) error { return s.http.ServeTLS(l, o.CertFile, o.KeyFile) }
		}
		if err := serve(listener); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
	return s, nil
}

// leafOf is the certificate that is served, as clients see it; nil without TLS.
func leafOf(o Options) ([]byte, error) {
	if o.CertFile == "" {
		return nil, nil
	}
	pair, err := tls.LoadX509KeyPair(o.CertFile, o.KeyFile)
	if err != nil {
		return nil, fmt.Errorf("option tls-cert: %w", err)
	}
	return pair.Certificate[0], nil
}

// Store is the service's own, open until Close.
func (s *Service) Store() *store.Store { return s.worker.Door.Store }

// Failed gets the error of a listener that broke.
func (s *Service) Failed() <-chan error { return s.failed }

// Close lets requests at hand end, lays down the work at hand (the next start goes on with
// it) and closes the store.
func (s *Service) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	err := s.http.Shutdown(ctx)
	s.worker.Close()
	return errors.Join(err, s.worker.Door.Store.Close())
}
