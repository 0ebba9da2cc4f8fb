package notices

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net/http"
	"net/smtp"
	"strings"
	"time"

	"bivium/internal/store"
)

// The ways in which notices are sent.
const (
	byEmail   = "email"
	byWebhook = "webhook"
)

// Mail is how e-mail is sent.
type Mail struct {
	Server   string // host and port, SMTP (RFC 5321); TLS is used where the server offers it
	From     string // the address of the sender
	Name     string // of the user at the server; "" for none
	Password string
}

// Pauses of deliveries.
const (
	deliverPace = time.Second // how often it is looked for something to send
	mostTries   = 10
	mostPause   = time.Hour
	patience    = 20 * time.Second
	atOnce      = 50
)

// Run sends what is to be sent until ctx ends. What cannot be delivered is tried again, later and
// later, and given up after ten times.
func (s *Service) Run(ctx context.Context) {
	tick := time.NewTicker(deliverPace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		due, err := s.store.DueDeliveries(ctx, s.clock(), atOnce)
		if err != nil {
			if ctx.Err() == nil {
				s.log.Error("notices cannot be sent", "error", err)
			}
			continue
		}
		for i := range due {
			s.deliver(ctx, &due[i])
		}
	}
}

func (s *Service) deliver(ctx context.Context, d *store.Delivery) {
	err := s.send(ctx, d)
	if err == nil {
		err = s.store.Delivered(ctx, d)
	} else if d.Tries, d.Why = d.Tries+1, err.Error(); d.Tries >= mostTries {
		s.log.Warn("a notice is given up", "person", d.Person, "way", d.Way, "error", err)
		err = s.store.Delivered(ctx, d)
	} else {
		err = s.store.DeliverLater(ctx, d, s.clock().Add(min(mostPause, time.Second<<(2*d.Tries))))
	}
	if err != nil && ctx.Err() == nil {
		s.log.Error("a delivery could not be noted", "error", err)
	}
}

func (s *Service) send(ctx context.Context, d *store.Delivery) error {
	c, err := s.store.ChannelOf(ctx, d.Person)
	if err != nil {
		return err
	}
	switch {
	case d.Way == byEmail && c.Email != "" && s.mail != nil:
		return s.sendMail(c.Email, &d.Notice)
	case d.Way == byWebhook && c.Webhook != "":
		return s.sendHook(ctx, c.Webhook, &d.Notice)
	}
	return nil // it is not wanted any more
}

func (s *Service) sendMail(to string, n *store.Notice) error {
	var b bytes.Buffer
	header := func(name, value string) { fmt.Fprintf(&b, "%s: %s\r\n", name, value) }
	header("From", "Bivium <"+s.mail.From+">")
	header("To", to)
	header("Subject", mime.QEncoding.Encode("utf-8", strings.NewReplacer("\r", " ", "\n", " ").Replace(n.Subject)))
	header("Date", n.At.Format(time.RFC1123Z))
	_, domain, _ := strings.Cut(s.mail.From, "@")
	header("Message-ID", fmt.Sprintf("<notice-%d-%s@%s>", n.ID, n.Person, domain))
	header("MIME-Version", "1.0")
	header("Content-Type", "text/plain; charset=utf-8")
	header("Content-Transfer-Encoding", "quoted-printable")
	b.WriteString("\r\n")
	w := quotedprintable.NewWriter(&b)
	text := n.Body + "\r\n"
	if n.Link != "" {
		text += "\r\n" + s.base + n.Link + "\r\n"
	}
	if _, err := w.Write([]byte(text)); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	var auth smtp.Auth
	if s.mail.Name != "" {
		host, _, _ := strings.Cut(s.mail.Server, ":")
		auth = smtp.PlainAuth("", s.mail.Name, s.mail.Password, host)
	}
	return smtp.SendMail(s.mail.Server, auth, s.mail.From, []string{to}, b.Bytes())
}

// sendHook posts a notice as JSON. Bivium-Signature is the HMAC-SHA-256 (RFC 2104) of the body, in
// hexadecimal, by the key that the person sees in the settings; Bivium-Delivery is the same for each
// try of one notice.
func (s *Service) sendHook(ctx context.Context, to string, n *store.Notice) error {
	key, err := s.people.WebhookKey(ctx, n.Person, false)
	if err != nil {
		return err
	}
	link := ""
	if n.Link != "" {
		link = s.base + n.Link
	}
	body, err := json.Marshal(map[string]any{"id": n.ID, "at": n.At, "kind": n.Kind, "person": n.Person, "subject": n.Subject, "body": n.Body, "link": link})
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return err
	}
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write(body)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Bivium-Delivery", fmt.Sprint(n.ID))
	r.Header.Set("Bivium-Signature", hex.EncodeToString(mac.Sum(nil)))
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	if err := answer.Body.Close(); err != nil {
		return err
	}
	if answer.StatusCode >= http.StatusMultipleChoices {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}
