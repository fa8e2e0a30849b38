package expr

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"hash"
)

// crypt keeps what is made once for each key.
type crypt struct {
	macs  map[string]hash.Hash
	boxes map[string]cipher.AEAD
}

// maxKeys bounds the keys that are kept: with a key for each client they are
// made again.
const maxKeys = 1024

func (s *Scope) hmac(a []Value) Value {
	key := s.text(a[0])
	mac := s.crypt.macs[string(key)]
	if mac == nil {
		if s.crypt.macs == nil || len(s.crypt.macs) >= maxKeys {
			s.crypt.macs = map[string]hash.Hash{}
		}
		mac = hmac.New(sha256.New, key)
		s.crypt.macs[string(key)] = mac
	}
	mac.Reset()
	mac.Write(s.text(a[1]))
	return s.write(func(dst []byte) ([]byte, bool) { return mac.Sum(dst), true })
}

// box returns the cipher of a key, or nil if it is no AES key.
func (s *Scope) box(key []byte) cipher.AEAD {
	if box := s.crypt.boxes[string(key)]; box != nil {
		return box
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil
	}
	box, err := cipher.NewGCM(block)
	if err != nil {
		return nil
	}
	if s.crypt.boxes == nil || len(s.crypt.boxes) >= maxKeys {
		s.crypt.boxes = map[string]cipher.AEAD{}
	}
	s.crypt.boxes[string(key)] = box
	return box
}

func (s *Scope) seal(a []Value) Value {
	box, nonce := s.box(s.text(a[0])), s.text(a[1])
	if box == nil || len(nonce) != box.NonceSize() {
		return Value{}
	}
	plain := s.text(a[2])
	return s.write(func(dst []byte) ([]byte, bool) { return box.Seal(dst, nonce, plain, nil), true })
}

func (s *Scope) unseal(a []Value) Value {
	box, nonce := s.box(s.text(a[0])), s.text(a[1])
	if box == nil || len(nonce) != box.NonceSize() {
		return Value{}
	}
	sealed := s.text(a[2])
	return s.write(func(dst []byte) ([]byte, bool) {
		out, err := box.Open(dst, nonce, sealed, nil)
		return out, err == nil
	})
}
