package secure

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"

	"tidepull/internal/wire"
)

// versions are those of TLS that can be named.
var versions = map[string]uint16{"1.2": tls.VersionTLS12, "1.3": tls.VersionTLS13}

// ClientConfig makes what crypto/tls wants to know. The error says which part of it is
// none.
func ClientConfig(o *wire.TLS) (*tls.Config, error) {
	c := &tls.Config{ServerName: o.ServerName, InsecureSkipVerify: o.Insecure, NextProtos: o.Protocols,
		MinVersion: versions[o.Min], MaxVersion: versions[o.Max]}
	if len(o.CA) > 0 {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(o.CA) {
			return nil, errors.New("the authorities are no certificates in PEM")
		}
	}
	if len(o.Cert) > 0 || len(o.Key) > 0 {
		own, err := tls.X509KeyPair(o.Cert, o.Key)
		if err != nil {
			return nil, fmt.Errorf("the client's certificate and key: %w", err)
		}
		c.Certificates = []tls.Certificate{own}
	}
	return c, nil
}
