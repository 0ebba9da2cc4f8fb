package people

import (
	"context"
	"crypto/rand"
)

// webhookKey is under what the key of a person's webhook is kept.
func webhookKey(person string) string { return "webhook " + person }

// WebhookKey returns the key with which what is sent to a person's webhook is signed, and makes
// one if there is none, or if another is wanted.
func (r *Register) WebhookKey(ctx context.Context, person string, another bool) (string, error) {
	sealed, err := r.store.Secret(ctx, webhookKey(person))
	if err != nil {
		return "", err
	}
	if sealed == nil || another {
		key := rand.Text()
		return key, r.store.PutSecret(ctx, webhookKey(person), r.vault.Seal(auditUse, []byte(key)))
	}
	key, err := r.vault.Open(auditUse, sealed)
	return string(key), err
}
