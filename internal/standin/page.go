package standin

import "encoding/base64"

// pageSize is how many things any interface gives at once.
const pageSize = 500

// cut returns the part of a list that begins at a place, and where the next
// begins, -1 after the last. Lists change while they are read, as they do in the
// world: a place is a place, not a promise.
func cut[T any](list []T, from int) ([]T, int) {
	if from < 0 || from >= len(list) {
		return nil, -1
	}
	to := min(from+pageSize, len(list))
	if to == len(list) {
		return list[from:], -1
	}
	return list[from:to], to
}

func seal(cursor string) string { return base64.RawURLEncoding.EncodeToString([]byte(cursor)) }

func unseal(cursor string) string {
	b, err := base64.RawURLEncoding.DecodeString(cursor)
	if err != nil {
		return ""
	}
	return string(b)
}
