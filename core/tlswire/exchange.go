package tlswire

import (
	"errors"
	"fmt"
	"io"
)

// Answer is what one hello taught.
type Answer struct {
	Hello        ServerHello
	Certificates [][]byte // DER; up to TLS 1.2, where they come in the clear
	Staple       []byte   // the OCSP response that came along, likewise
}

// Exchange sends the hello and reads the answer as far as it is readable
// without keys: in TLS 1.3 the ServerHello, before it everything up to the
// Certificate message, and the CertificateStatus behind it where one is promised. The stream's deadlines are the caller's.
//
// The error is an *AlertError, *NotTLSError, *BadMessageError, ErrClosed or
// what the stream returned. With a *BadMessageError after the ServerHello the
// answer holds what was read until then.
func Exchange(stream io.ReadWriter, hello ClientHello) (Answer, error) {
	if _, err := stream.Write(hello.Record()); err != nil {
		return Answer{}, err
	}
	reader := &messageReader{stream: stream}
	kind, body, err := reader.next()
	if err != nil {
		return Answer{}, err
	}
	if kind != messageServerHello {
		return Answer{}, &BadMessageError{fmt.Sprintf("handshake message %d came instead of a ServerHello", kind)}
	}
	var answer Answer
	if answer.Hello, err = ParseServerHello(body); err != nil {
		return Answer{}, err
	}
	if answer.Hello.Version >= TLS13 {
		return answer, nil
	}
	for {
		kind, body, err = reader.next()
		switch {
		case err != nil && len(answer.Certificates) > 0: // what matters is there
			return answer, nil
		case err != nil:
			if errors.Is(err, ErrClosed) {
				err = &BadMessageError{"the connection was closed after the ServerHello"}
			}
			return answer, err
		case kind == messageCertificate:
			answer.Certificates, err = ParseCertificates(body)
			if err != nil || !answer.Hello.Status {
				return answer, err
			}
		case kind == messageCertificateStatus:
			answer.Staple, err = ParseCertificateStatus(body)
			return answer, err
		case len(answer.Certificates) > 0: // no answer came along after all
			return answer, nil
		case kind == messageServerHelloDone: // an anonymous suite has no certificate
			return answer, nil
		}
	}
}
