package wire

// A TLS says whom a client trusts, and what it shows of itself. Its zero value trusts
// whom the system trusts.
type TLS struct {
	CA         []byte   // authorities in PEM that are trusted instead of the system's
	Cert, Key  []byte   // the client's own, in PEM; empty: it has none
	ServerName string   // what the server must prove to be; "": the name in its address
	Min, Max   string   // versions: "1.2" or "1.3"; "": the library's
	Protocols  []string // what is offered inside (ALPN, RFC 7301); nil: http/1.1, or nothing over TCP
	Insecure   bool     // any certificate is taken
	Resume     bool     // who comes back resumes its session
}
