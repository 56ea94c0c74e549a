package client

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
)

// PinOf names a service by its public key: the SHA-256 of the certificate's
// SubjectPublicKeyInfo, in base64 for URLs.
func PinOf(cert *x509.Certificate) string {
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// ErrOtherService says that a service does not have the key that was pinned.
var ErrOtherService = errors.New("it is not the service that made the enrolment key: its public key is another")

// Pinned returns a client that knows the service by a pin beside its certificate. Where it is
// strict, nothing else is accepted, and plain HTTP is not; otherwise a certificate that this
// machine trusts will do, too, so that a service may change its key. Without a pin the client
// is returned as it is.
func (c *Client) Pinned(pin string, strict bool) (*Client, error) {
	if pin == "" {
		return c, nil
	}
	for _, base := range c.way.bases {
		if strict && base.Scheme != "https" {
			return nil, fmt.Errorf(
				"the enrolment key was made by a service that speaks TLS; write https:// instead of %s://%s", base.Scheme,
				base.Host,
			)
		}
	}
	from, ok := c.http.Transport.(*http.Transport)
	if !ok {
		return nil, errors.New("the client cannot be pinned")
	}
	transport := from.Clone()
	transport.TLSClientConfig = &tls.Config{
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, // VerifyConnection decides
		VerifyConnection:   func(s tls.ConnectionState) error { return verify(s, pin, strict) },
	}
	h := *c.http
	h.Transport = transport
	d := *c
	d.http = &h
	return &d, nil
}

func verify(s tls.ConnectionState, pin string, strict bool) error {
	if len(s.PeerCertificates) == 0 {
		return errors.New("the service shows no certificate")
	}
	if PinOf(s.PeerCertificates[0]) == pin {
		return nil
	}
	if strict {
		return ErrOtherService
	}
	options := x509.VerifyOptions{DNSName: s.ServerName, Intermediates: x509.NewCertPool()}
	for _, c := range s.PeerCertificates[1:] {
		options.Intermediates.AddCert(c)
	}
	_, err := s.PeerCertificates[0].Verify(options)
	return err
}
