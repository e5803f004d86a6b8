package fieldwork

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"

	"nexocumula/internal/config"
	"nexocumula/internal/plain"
)

// Pinned returns the address of a device or broker with the IP that its host has now instead of the host, so that
// a tool connects to nothing else than what was looked at. It refuses an address that the configuration does
// not allow. Of tls:// the host stays, as the certificate has to be for it.
func Pinned(ctx context.Context, allowed config.Field, address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" {
		return address, nil // whoever connects says what is wrong with it
	}
	if u.Scheme == "rtu" && !strings.HasPrefix(u.Path, "/dev/") {
		return "", wrong("%s is no serial line; one is a file in /dev", address)
	}
	if u.Hostname() == "" {
		return address, nil
	}
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	if err != nil {
		return "", fmt.Errorf("looking for %s: %w", address, plain.Network(err))
	}
	for _, ip := range all {
		if !allowed.Reaches(ip) {
			return "", wrong("%s leads to %s, where tools may not connect to; field: networks: in the configuration says where they may, without it loopback and private ranges",
				address, ip.Unmap())
		}
	}
	if u.Scheme != "tls" && u.Port() != "" && len(all) > 0 {
		u.Host = net.JoinHostPort(all[0].Unmap().String(), u.Port())
	}
	return u.String(), nil
}
