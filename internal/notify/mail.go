package notify

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Mail is one e-mail, as plain text and as HTML.
type Mail struct {
	ID      string // the same each time that it is tried
	To      string
	Subject string
	Text    string
	HTML    string
	Picture []byte // JPEG, to which the HTML refers as cid:picture; may be empty
}

// Mailer sends e-mail over one SMTP server. Use ParseMailer.
type Mailer struct {
	host     string
	port     int
	user     string
	password string
	from     string
	ssl      bool // TLS from the beginning
	plain    bool // no TLS at all
	roots    *x509.CertPool
}

// ParseMailer reads where e-mail is handed in: smtp://USER@HOST:PORT, which has to offer
// STARTTLS; smtps:// for TLS from the beginning, smtp+plain:// for none at all. caFile holds
// certificates to trust besides the system's; it may be empty.
func ParseMailer(server, from, password, caFile string) (*Mailer, error) {
	u, err := url.Parse(server)
	if err != nil || u.Hostname() == "" || u.Path != "" && u.Path != "/" {
		return nil, fmt.Errorf("%q is not a mail server; write it like smtp://farm@mail.example:587", server)
	}
	m := &Mailer{host: u.Hostname(), port: 587, user: u.User.Username(), password: password}
	switch u.Scheme {
	case "smtp":
	case "smtps":
		m.ssl, m.port = true, 465
	case "smtp+plain":
		m.plain, m.port = true, 25
	default:
		return nil, fmt.Errorf("%q is not a mail server; it begins with smtp://, smtps:// or smtp+plain://", server)
	}
	if _, written := u.User.Password(); written {
		return nil, errors.New(
			"the password of the mail server belongs into VEXILLUM_MAIL_PASSWORD, not on the command line",
		)
	}
	if text := u.Port(); text != "" {
		if m.port, err = strconv.Atoi(text); err != nil || m.port < 1 || m.port > 65535 {
			return nil, fmt.Errorf("the port %q of the mail server is not one", text)
		}
	}
	if m.from, err = CheckAddress(from); err != nil {
		return nil, fmt.Errorf("who e-mail is from: %w", err)
	}
	if caFile != "" {
		pem, err := os.ReadFile(caFile)
		if err != nil {
			return nil, fmt.Errorf("reading certificates for the mail server: %w", err)
		}
		if m.roots, err = x509.SystemCertPool(); err != nil {
			m.roots = x509.NewCertPool()
		}
		if !m.roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", caFile)
		}
	}
	return m, nil
}

// CheckAddress returns an e-mail address without a name, or says what is wrong with it.
func CheckAddress(text string) (string, error) {
	a, err := mail.ParseAddress(text)
	if err != nil || len(a.Address) > 254 || strings.ContainsAny(text, "\r\n") {
		return "", fmt.Errorf("%.80q is not an e-mail address", text)
	}
	// The part before the @ keeps the quotes that it needs.
	return strings.Trim((&mail.Address{Address: a.Address}).String(), "<>"), nil
}

// Send sends an e-mail once.
func (m *Mailer) Send(ctx context.Context, letter Mail) Answer {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	msg := gomail.NewMsg()
	if err := errors.Join(msg.FromFormat("Vexillum", m.from), msg.To(letter.To)); err != nil {
		return Answer{Text: err.Error()}
	}
	msg.Subject(letter.Subject)
	msg.SetMessageIDWithValue(letter.ID + "@" + m.from[strings.LastIndexByte(m.from, '@')+1:])
	msg.SetDate()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody shall answer by itself
	msg.SetBodyString(gomail.TypeTextPlain, letter.Text)
	msg.AddAlternativeString(gomail.TypeTextHTML, letter.HTML)
	if len(letter.Picture) > 0 {
		err := msg.EmbedReader(
			"picture.jpg", bytes.NewReader(letter.Picture), gomail.WithFileContentID("<picture>"),
			gomail.WithFileContentType("image/jpeg"),
		)
		if err != nil {
			return Answer{Text: err.Error()}
		}
	}
	client, err := m.client()
	if err != nil {
		return Answer{Text: err.Error()}
	}
	if err := client.DialAndSendWithContext(ctx, msg); err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return Answer{Text: fmt.Sprintf("no answer within %s", sendWithin)}
		}
		return Answer{Text: strings.Join(strings.Fields(plainly(err)), " ")}
	}
	return Answer{Taken: true, Text: "taken by " + m.host}
}

// mostSaid bounds what a mail server says in one session, in bytes: greetings and answers are
// lines, and a server need not end them.
const mostSaid = 256 << 10

// dial connects to the mail server, and reads no more of it than mostSaid.
func (m *Mailer) dial(ctx context.Context, network, address string) (net.Conn, error) {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	conn, err := dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	short := &briefConn{Conn: conn, left: mostSaid}
	if !m.ssl {
		return short, nil
	}
	secure := tls.Client(short, m.tls())
	if err := secure.HandshakeContext(ctx); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return secure, nil
}

func (m *Mailer) tls() *tls.Config {
	return &tls.Config{ServerName: m.host, RootCAs: m.roots, MinVersion: tls.VersionTLS12}
}

// briefConn is a connection of which a bounded number of bytes is read.
type briefConn struct {
	net.Conn
	left int
}

// errTalks says that a mail server says more than it needs to.
var errTalks = fmt.Errorf("the mail server says more than %d bytes", mostSaid)

// Read implements [net.Conn].
func (c *briefConn) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, errTalks
	}
	n, err := c.Conn.Read(p[:min(len(p), c.left)])
	c.left -= n
	return n, err
}

func (m *Mailer) client() (*gomail.Client, error) {
	options := []gomail.Option{
		gomail.WithPort(m.port), gomail.WithTimeout(sendWithin),
		gomail.WithTLSConfig(m.tls()),
	}
	options = append(options, gomail.WithDialContextFunc(m.dial))
	switch {
	case m.ssl:
		options = append(options, gomail.WithSSL())
	case m.plain:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	default:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	}
	if m.user != "" {
		options = append(
			options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(m.user),
			gomail.WithPassword(m.password),
		)
	}
	return gomail.NewClient(m.host, options...)
}
