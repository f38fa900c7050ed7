package main

import (
	"net"
	"net/http"
	"net/http/pprof"
	"time"
)

// serveProfiles serves the profiles of net/http/pprof on a listener of their own, which is
// loopback (config.check): they show what the service does, and cost it time.
func serveProfiles(address string) (*http.Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	mux.HandleFunc("/debug/pprof/symbol", pprof.Symbol)
	mux.HandleFunc("/debug/pprof/trace", pprof.Trace)
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.Serve(l) }()
	return s, nil
}
