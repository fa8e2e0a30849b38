package http1

import "fmt"

// maxContent is the longest content of an answer that an Exchange gathers, in
// bytes.
const maxContent = 8 << 20

// maxInterim bounds the interim answers before one answer.
const maxInterim = 100

// An Exchange reads the answer to one request: interim answers are passed over
// (RFC 9110 15.2), the content is gathered. Its zero value, with the request's
// method, waits for an answer.
type Exchange struct {
	Method  string // of the request
	Upgrade bool   // 101 is an answer, and not on the way to one (RFC 9110 15.2.2)
	Head    Head   // of the answer, once Headed
	Content []byte // what has come of it
	body    Body
	headed  bool
	interim int
}

// Take takes what it can from the front of b, and returns how much that was. Once
// it is Done what follows is not the answer's any more.
func (x *Exchange) Take(b []byte) (taken int, err error) {
	if taken, err = x.TakeHead(b); err != nil || !x.headed {
		return taken, err
	}
	for {
		part, n, err := x.body.Next(b[taken:])
		if err != nil {
			return taken, err
		}
		taken += n
		if x.Content = append(x.Content, part...); len(x.Content) > maxContent {
			return taken, fmt.Errorf("the answer is longer than %d MiB", maxContent>>20)
		}
		if n == 0 {
			return taken, nil
		}
	}
}

// TakeHead takes the answer's head from the front of b, if it is whole, with the interim
// answers before it. Afterwards Next gives the content piece by piece, and gathers nothing.
func (x *Exchange) TakeHead(b []byte) (taken int, err error) {
	for !x.headed {
		h, n, err := ConsumeResponse(b[taken:])
		if err != nil || n == 0 {
			return taken, err
		}
		taken += n
		if h.Status/100 == 1 && !(x.Upgrade && h.Status == 101) {
			if x.interim++; x.interim > maxInterim {
				return taken, violation("more interim answers than anybody reads", "RFC 9110 15.2")
			}
			continue
		}
		x.Head, x.headed = h, true
		if x.body, err = ResponseBody(&h, x.Method); err != nil {
			return taken, err
		}
	}
	return taken, nil
}

// Next takes a piece of the content from the front of b; see Body.Next.
func (x *Exchange) Next(b []byte) (part []byte, n int, err error) { return x.body.Next(b) }

// Headed reports whether the answer's head is there.
func (x *Exchange) Headed() bool { return x.headed }

// Done reports whether the answer is whole.
func (x *Exchange) Done() bool { return x.headed && x.body.Done() }

// UntilClose reports whether the answer is whole once the connection ends (RFC
// 9112 6.3).
func (x *Exchange) UntilClose() bool { return x.headed && x.body.UntilClose() }
