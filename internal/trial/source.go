package trial

// A Source is what a trial was read from, so that another process can read it again.
type Source struct {
	Name   string // of the file, as it stands in error messages
	Text   []byte
	Target string            // what goes before the target's address
	Set    map[string]string // what goes before the defaults of variables
	Kernel bool
	Shape  Shape
	Files  map[string][]byte // that it names, by path
}
