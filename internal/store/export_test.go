package store

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Limit lets a database take no more room than it has now.
func Limit(t *testing.T, s *Store) {
	s.db.SetMaxOpenConns(1)                                              // the limit is that of a connection
	_, err := s.db.ExecContext(t.Context(), `PRAGMA max_page_count = 1`) // as few as there are
	require.NoError(t, err)
}
