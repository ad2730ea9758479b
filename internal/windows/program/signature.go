package program

import (
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"math/big"
)

// signed is the part of a signature (RFC 5652, "SignedData") that says who made
// it.
type signed struct {
	Version      int
	Digests      asn1.RawValue
	Content      asn1.RawValue
	Certificates asn1.RawValue `asn1:"optional,tag:0"`
	Revoked      asn1.RawValue `asn1:"optional,tag:1"`
	Signers      []struct {
		Version int
		Issued  struct {
			Issuer asn1.RawValue
			Serial *big.Int
		}
		Digest     asn1.RawValue
		Attributes asn1.RawValue `asn1:"optional,tag:0"`
		Algorithm  asn1.RawValue
		Value      []byte
		Rest       asn1.RawValue `asn1:"optional,tag:1"`
	} `asn1:"set"`
}

// certificate is what is asked of one (RFC 5280, section 4.1). The whole parser
// of certificates would weigh a megabyte in the recorder's memory.
type certificate struct {
	Body struct {
		Version   int `asn1:"optional,explicit,default:0,tag:0"`
		Serial    *big.Int
		Algorithm asn1.RawValue
		Issuer    asn1.RawValue
		Valid     asn1.RawValue
		Subject   pkix.RDNSequence
	}
}

// signer is whom a signature names as its maker; empty where it cannot be read.
// Nothing of it is verified.
func signer(raw []byte) string {
	var outer struct {
		Kind asn1.ObjectIdentifier
		Body asn1.RawValue `asn1:"explicit,tag:0"`
	}
	if _, err := asn1.Unmarshal(raw, &outer); err != nil {
		return ""
	}
	var s signed
	if _, err := asn1.Unmarshal(outer.Body.Bytes, &s); err != nil || len(s.Signers) == 0 {
		return ""
	}
	for rest := s.Certificates.Bytes; len(rest) > 0; {
		var c certificate
		var err error
		if rest, err = asn1.Unmarshal(rest, &c); err != nil {
			return ""
		}
		if c.Body.Serial.Cmp(s.Signers[0].Issued.Serial) == 0 &&
			string(c.Body.Issuer.FullBytes) == string(s.Signers[0].Issued.Issuer.FullBytes) {
			var name pkix.Name
			name.FillFromRDNSequence(&c.Body.Subject)
			return name.CommonName
		}
	}
	return ""
}

// signature returns the bytes of the signature that is inside; nil for none.
func (p *File) signature() []byte {
	const head, most = 8, 1 << 20
	if p.signed == 0 {
		return nil
	}
	raw := make([]byte, head)
	if _, err := p.f.ReadAt(raw, int64(p.signed)); err != nil {
		return nil
	}
	size := binary.LittleEndian.Uint32(raw)
	if size <= head || size > most {
		return nil
	}
	body := make([]byte, size-head)
	if _, err := p.f.ReadAt(body, int64(p.signed)+head); err != nil {
		return nil
	}
	return body
}
