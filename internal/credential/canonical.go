package credential

import (
	"bytes"
	"errors"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// mostNested bounds how deep elements stand in one another.
const mostNested = 32

var errDER = errors.New("it is not written in the one way that DER allows")

// canonical sees that some bytes are one element in DER (ITU-T X.690, sections 10 and 11): two programs that read it
// otherwise may take it for something else than was checked.
func canonical(der []byte) error {
	in := cryptobyte.String(der)
	if err := canonicalElement(&in, 0); err != nil {
		return err
	}
	if !in.Empty() {
		return errDER
	}
	return nil
}

// canonicalElement takes one element. cryptobyte refuses lengths that are longer than they need be, and open ones.
func canonicalElement(in *cryptobyte.String, depth int) error {
	var body cryptobyte.String
	var tag asn1.Tag
	if depth > mostNested || !in.ReadAnyASN1(&body, &tag) {
		return errDER
	}
	switch tag {
	case asn1.BOOLEAN:
		if len(body) != 1 || body[0] != 0 && body[0] != 0xff {
			return errDER
		}
	case asn1.INTEGER, asn1.ENUM:
		if len(body) == 0 || len(body) > 1 && (body[0] == 0 && body[1] < 0x80 || body[0] == 0xff && body[1] >= 0x80) {
			return errDER
		}
	case asn1.BIT_STRING:
		if len(body) == 0 || body[0] > 7 || len(body) == 1 && body[0] > 0 ||
			len(body) > 1 && body[len(body)-1]&(1<<body[0]-1) != 0 {
			return errDER
		}
	case asn1.NULL:
		if len(body) > 0 {
			return errDER
		}
	}
	if tag&0x20 == 0 { // not constructed
		if tag == asn1.SEQUENCE&^0x20 || tag == asn1.SET&^0x20 {
			return errDER
		}
		return nil
	}
	if class := tag & 0xc0; class == 0 && tag != asn1.SEQUENCE && tag != asn1.SET {
		return errDER // texts come in one piece
	}
	var last []byte
	for !body.Empty() {
		before := body
		if err := canonicalElement(&body, depth+1); err != nil {
			return err
		}
		one := before[:len(before)-len(body)]
		if tag == asn1.SET {
			if last != nil && bytes.Compare(last, one) > 0 {
				return errDER
			}
			last = one
		}
	}
	return nil
}
