package main

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// ownListeners are the addresses and ports of our own: of the service, its
// database and its clouds' interfaces, which nobody may make the service dial. A
// host that is named is looked up: each address that it has is forbidden, and one
// that cannot be found ends the start, as it would be forbidden nothing.
func ownListeners(listen string, urls, databases []string,
	find func(host string) ([]netip.Addr, error)) ([]netip.AddrPort, error) {
	var out []netip.AddrPort
	add := func(host string, port int) error {
		if host == "" {
			out = append(out, netip.AddrPortFrom(netip.IPv6Unspecified(), uint16(port)))
			return nil
		}
		all, err := find(host)
		if err != nil || len(all) == 0 {
			return fmt.Errorf("%q, a listener of our own, has no address: what may not be dialled is not known", host)
		}
		for _, a := range all {
			out = append(out, netip.AddrPortFrom(a.Unmap(), uint16(port)))
		}
		return nil
	}
	if host, port, err := net.SplitHostPort(listen); err == nil {
		n, err := net.LookupPort("tcp", port)
		if err != nil {
			return nil, fmt.Errorf("option listen: %w", err)
		}
		if err := add(host, n); err != nil {
			return nil, err
		}
	}
	for _, text := range urls {
		u, err := url.Parse(text)
		if err != nil || u.Host == "" {
			continue
		}
		port := map[string]int{"http": 80, "https": 443}[u.Scheme]
		if u.Port() != "" {
			if port, err = strconv.Atoi(u.Port()); err != nil {
				return nil, fmt.Errorf("%s: its port is none", u.Redacted())
			}
		}
		if err := add(u.Hostname(), port); err != nil {
			return nil, err
		}
	}
	for _, text := range databases {
		if text == "" {
			continue
		}
		// A URL, or the host=... port=... form; several hosts; a socket's folder.
		config, err := pgx.ParseConfig(text)
		if err != nil {
			continue // opening it will say what is wrong, without the password
		}
		type place struct {
			host string
			port uint16
		}
		places := []place{{config.Host, config.Port}}
		for _, f := range config.Fallbacks {
			places = append(places, place{f.Host, f.Port})
		}
		for _, at := range places {
			// no port of TCP; the same server may have one
			if strings.HasPrefix(at.host, "/") || strings.HasPrefix(at.host, "@") {
				at.host = "localhost"
			}
			if err := add(at.host, int(at.port)); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// lookup resolves a host.
func lookup(host string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{a}, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
}
