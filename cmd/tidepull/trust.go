package main

import (
	"fmt"
	"os"

	"tidepull/internal/wire"
)

// trust is the flags of commands that connect to a server over TLS.
type trust struct {
	CA         string `name:"ca" placeholder:"FILE" help:"${ca}"`
	Cert       string `placeholder:"FILE" help:"A client's certificate, in PEM."`
	CertKey    string `placeholder:"FILE" help:"With --cert: its key, in PEM."`
	ServerName string `placeholder:"NAME" help:"${server_name}"`
	Insecure   bool   `help:"Take any certificate."`
}

// options reads the files that the flags name.
func (t *trust) options() (o wire.TLS, err error) {
	o.ServerName, o.Insecure = t.ServerName, t.Insecure
	for _, f := range []struct {
		flag, path string
		into       *[]byte
	}{{"--ca", t.CA, &o.CA}, {"--cert", t.Cert, &o.Cert}, {"--cert-key", t.CertKey, &o.Key}} {
		if f.path == "" {
			continue
		}
		if *f.into, err = os.ReadFile(f.path); err != nil {
			return o, fmt.Errorf("%s: %w", f.flag, err)
		}
	}
	if (t.Cert == "") != (t.CertKey == "") {
		return o, fmt.Errorf("a client's certificate is --cert and --cert-key together")
	}
	return o, nil
}
