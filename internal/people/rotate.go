package people

import "bivium/internal/vault"

// Reseal seals a secret of the server, which was sealed by one vault, by another.
func Reseal(_ string, sealed []byte, from, to *vault.Vault) ([]byte, error) {
	secret, err := from.Open(auditUse, sealed)
	if err != nil {
		return nil, err
	}
	return to.Seal(auditUse, secret), nil
}
