package notify

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/binding"
	"github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	gomail "github.com/wneessen/go-mail"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/core/mask"
)

// A Target is told notices.
type Target struct {
	Name  string
	To    string // where it is, without secrets
	Least audit.Severity
	Only  *estate.Condition // about which places; nil means all

	perMinute int // notices, beyond which there is a summary
	send      func(ctx context.Context, n Notice) error
}

// Config says how a target is reached, as settings say it.
type Config struct {
	Name     string
	To       string // https://…, smtp://host:port, smtps://, syslog://host:port, syslogs://, syslog+udp://, stdout
	MailTo   []string
	MailFrom string
	Token    string // sent to an https target
	User     string // of a mail server
	Password string
	Least    audit.Severity
	Only     *estate.Condition
	// PerMinute is how many notices it is sent in a minute; what is beyond that comes as one summary. 0 means ten.
	PerMinute int
	Stdout    io.Writer
}

// errRefused marks what a target will never take.
var errRefused = errors.New("it is refused")

// A later error says when a target may be tried again.
type later struct {
	error
	after time.Duration
}

func (l *later) Unwrap() error { return l.error }

// timeout bounds one try.
const timeout = 20 * time.Second

// NewTarget makes a target.
func NewTarget(c Config) (Target, error) {
	t := Target{Name: c.Name, To: c.To, Least: c.Least, Only: c.Only, perMinute: cmp.Or(c.PerMinute, usualPerMinute)}
	if c.To == "stdout" {
		t.send = func(_ context.Context, n Notice) error {
			text, err := json.Marshal(n)
			if err == nil {
				_, err = c.Stdout.Write(append(text, '\n'))
			}
			return err
		}
		return t, nil
	}
	u, err := url.Parse(c.To)
	if err != nil || u.Host == "" {
		return t, errors.New("it is none of https://HOST…, smtp://HOST:PORT, smtps://HOST:PORT, syslog://HOST:PORT, " +
			"syslogs://HOST:PORT, syslog+udp://HOST:PORT or stdout")
	}
	if u.User != nil {
		return t, errors.New("it holds a name or password: these belong in user and password-env, or token-env")
	}
	secret := c.Token != "" || c.Password != ""
	switch u.Scheme {
	case "https", "http":
		if u.Scheme == "http" && !here(u.Hostname()) {
			return t, fmt.Errorf("%s is not reached over TLS: notices would be readable on the way (use https)", u.Host)
		}
		t.send = overHTTP(c)
	case "smtp", "smtps":
		if len(c.MailTo) == 0 {
			return t, errors.New("a mail server needs mail-to, a list of addresses")
		}
		for _, a := range append([]string{c.MailFrom}, c.MailTo...) {
			if _, err := mail.ParseAddress(a); err != nil {
				return t, fmt.Errorf("%q is no mail address (mail-from, mail-to)", a)
			}
		}
		if t.send, err = byMail(c, u, secret && !here(u.Hostname())); err != nil {
			return t, err
		}
	case "syslog", "syslogs", "syslog+udp":
		if u.Port() == "" {
			return t, errors.New("a syslog server has a port: syslog://HOST:PORT")
		}
		t.send = toSyslog(u)
	default:
		return t, fmt.Errorf("nothing can be sent by %s: there are https, smtp, smtps, syslog, syslogs, syslog+udp "+
			"and stdout", u.Scheme)
	}
	return t, nil
}

// here reports whether a host is this machine.
func here(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback() || host == "localhost"
}

// Wants reports whether a target is to be told of a notice about places: if it is about one of them at least, or no
// place is known.
func (t Target) Wants(n Notice, where ...estate.Place) bool {
	if n.severity() < t.Least {
		return false
	}
	where = slices.DeleteFunc(slices.Clone(where), func(p estate.Place) bool { return p == estate.Place{} })
	return t.Only == nil || len(where) == 0 || slices.ContainsFunc(where, t.Only.Holds)
}

// Send sends one notice now, without the outbox.
func (t Target) Send(ctx context.Context, n Notice) error {
	ctx, stop := context.WithTimeout(ctx, timeout)
	defer stop()
	return t.send(ctx, n)
}

// Sample is a notice to try a target with.
func Sample(estateName string, now time.Time) Notice {
	at := now.UTC()
	return Notice{Version: NoticeVersion, ID: NewID(), Type: Test, Severity: audit.Info.String(), At: at,
		Estate: estateName, Says: "this is an example: notices reach you"}
}

// overHTTP sends CloudEvents 1.0, structured, by POST.
func overHTTP(c Config) func(context.Context, Notice) error {
	client := &http.Client{Timeout: timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return func(ctx context.Context, n Notice) error {
		e := event.New()
		e.SetID(n.ID)
		e.SetType("isonomos." + n.Type)
		e.SetSource("urn:isonomos:estate:" + url.PathEscape(n.Estate))
		e.SetTime(n.At)
		e.SetDataSchema("urn:isonomos:schema:notice:" + strconv.Itoa(NoticeVersion))
		if n.Place != "" {
			e.SetSubject(n.Place)
		}
		if err := e.SetData(event.ApplicationJSON, n); err != nil {
			return err
		}
		r, err := cehttp.NewHTTPRequestFromEvent(binding.WithForceStructured(ctx), c.To, e)
		if err != nil {
			return err
		}
		if c.Token != "" {
			r.Header.Set("Authorization", "Bearer "+c.Token)
		}
		answer, err := client.Do(r)
		if err != nil {
			return plain(err)
		}
		defer answer.Body.Close()
		_, _ = io.CopyN(io.Discard, answer.Body, 1<<16) // so that the connection can be used again
		switch code := answer.StatusCode; {
		case code < 300:
			return nil
		case code == http.StatusRequestTimeout, code == http.StatusTooEarly, code == http.StatusTooManyRequests,
			code >= 500:
			return &later{fmt.Errorf("it answers %s", statusOf(code)), retryAfter(answer.Header)}
		default:
			return fmt.Errorf("%w: it answers %s", errRefused, statusOf(code))
		}
	}
}

// statusOf is a status in words: those of the server could repeat what it was sent.
func statusOf(code int) string {
	return strings.TrimSpace(fmt.Sprintf("%d %s", code, http.StatusText(code)))
}

// retryAfter is how long an answer asks to wait.
func retryAfter(h http.Header) time.Duration {
	seconds, err := strconv.Atoi(h.Get("Retry-After"))
	if err != nil || seconds < 0 {
		return 0
	}
	return min(time.Duration(seconds)*time.Second, longestWait)
}

// plain is a network error without the address, which may be long.
func plain(err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

// byMail sends mails.
func byMail(c Config, u *url.URL, tlsAlways bool) (func(context.Context, Notice) error, error) {
	o := []gomail.Option{gomail.WithTimeout(timeout), gomail.WithTLSPolicy(gomail.TLSOpportunistic)}
	if tlsAlways {
		o = []gomail.Option{gomail.WithTimeout(timeout), gomail.WithTLSPolicy(gomail.TLSMandatory)}
	}
	if u.Scheme == "smtps" {
		o = append(o, gomail.WithSSL())
	}
	if u.Port() != "" {
		port, err := strconv.Atoi(u.Port())
		if err != nil {
			return nil, err
		}
		o = append(o, gomail.WithPort(port))
	}
	if c.User != "" {
		auth := gomail.SMTPAuthAutoDiscover
		o = append(o, gomail.WithSMTPAuth(auth), gomail.WithUsername(c.User), gomail.WithPassword(c.Password))
	}
	if _, err := gomail.NewClient(u.Hostname(), o...); err != nil {
		return nil, err
	}
	return func(ctx context.Context, n Notice) error {
		dial := func(dialled context.Context, network, address string) (net.Conn, error) {
			return dialUntil(ctx, dialled, u, network, address)
		}
		client, err := gomail.NewClient(u.Hostname(), append(slices.Clip(o), gomail.WithDialContextFunc(dial))...)
		if err != nil {
			return err
		}
		m := gomail.NewMsg()
		if err := errors.Join(m.From(c.MailFrom), m.To(c.MailTo...)); err != nil {
			return err
		}
		m.Subject(fmt.Sprintf("[%s] %s", n.Severity, n.Subject()))
		m.SetDateWithValue(n.At)
		m.SetMessageIDWithValue(n.ID + "@" + u.Hostname())
		m.SetGenHeader("Auto-Submitted", "auto-generated")
		m.SetBodyString(gomail.TypeTextPlain, n.Text())
		err = client.DialAndSendWithContext(ctx, m)
		var failed *gomail.SendError
		refused := errors.As(err, &failed) && !failed.IsTemp() && failed.ErrorCode() >= 500
		if err != nil {
			var secrets mask.Masker // a server repeats what it was sent
			secrets.Learn(c.Password, c.User+"\x00"+c.Password)
			if clean := string(secrets.Mask([]byte(err.Error()), true)); clean != err.Error() {
				err = errors.New(clean)
			}
		}
		if refused {
			return fmt.Errorf("%w: %w", errRefused, err)
		}
		return err
	}, nil
}

// dialUntil connects, over TLS where the scheme says so. The connection is closed when ctx ends, whatever it is waiting
// for.
func dialUntil(ctx, dialled context.Context, u *url.URL, network, address string) (conn net.Conn, err error) {
	if u.Scheme == "smtps" || u.Scheme == "syslogs" {
		d := tls.Dialer{Config: &tls.Config{ServerName: u.Hostname()}}
		conn, err = d.DialContext(dialled, network, address)
	} else {
		conn, err = new(net.Dialer).DialContext(dialled, network, address)
	}
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { conn.Close() })
	return conn, nil
}

// toSyslog sends messages of RFC 5424, over TCP and TLS with their length in front (RFC 6587, RFC 5425). A server does
// not say that it has taken one.
func toSyslog(u *url.URL) func(context.Context, Notice) error {
	return func(ctx context.Context, n Notice) error {
		network := "tcp"
		if u.Scheme == "syslog+udp" {
			network = "udp"
		}
		conn, err := dialUntil(ctx, ctx, u, network, u.Host)
		if err != nil {
			return err
		}
		defer conn.Close()
		for _, one := range each(n) {
			message := Syslog(one, hostname())
			if u.Scheme != "syslog+udp" {
				message = strconv.Itoa(len(message)) + " " + message
			}
			if _, err := conn.Write([]byte(message)); err != nil {
				return err
			}
		}
		return nil
	}
}

// each are the notices of a summary, or the one that it is.
func each(n Notice) []Notice {
	if len(n.Notices) > 0 {
		return n.Notices
	}
	return []Notice{n}
}

func hostname() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "-"
	}
	return name
}

// Syslog is a notice as a message of RFC 5424, of the facility "log audit" (13). It has no structured data, for which
// a number would have to be assigned; the id stands at its end.
func Syslog(n Notice, host string) string {
	level := map[audit.Severity]int{audit.Critical: 2, audit.High: 3, audit.Medium: 4, audit.Low: 5}[n.severity()]
	if level == 0 {
		level = 6
	}
	const facility = 13
	text := strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, n.Paragraph())
	return fmt.Sprintf("<%d>1 %s %s isonomos %d %s - \ufeff%s (notice %s)", facility*8+level,
		n.At.UTC().Format("2006-01-02T15:04:05.000Z07:00"), visible(host, 255), os.Getpid(), visible(n.Type, 32), text,
		n.ID)
}

// visible is a field of a message's header: only what is printable in ASCII.
func visible(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if r <= ' ' || r >= 0x7f {
			return -1
		}
		return r
	}, text)
	if text == "" {
		return "-"
	}
	return text[:min(len(text), most)]
}
