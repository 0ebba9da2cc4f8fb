package drafts

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhenAChangeMayBeMade asks windows and freezes of one segment and of all, by day and night,
// and in a zone that is an hour ahead.
func TestWhenAChangeMayBeMade(t *testing.T) {
	nights := Window{Segment: "turbine", Days: []string{"tue", "thu"}, Opens: "22:00", Closes: "04:00", Zone: "Europe/Oslo"}
	days := Window{Days: []string{"mon", "tue", "wed", "thu", "fri"}, Opens: "08:00", Closes: "16:00", Zone: "UTC"}
	holidays := Window{First: "2026-12-21", Last: "2026-12-31", Zone: "UTC", Why: "the year is closed"}
	for _, c := range []struct {
		at      string
		all     []Window
		concern []string
		want    string
	}{
		{"2026-12-01T12:00:00Z", nil, []string{"turbine"}, ""},
		{"2026-12-01T21:00:00Z", []Window{nights}, []string{"turbine"}, ""}, // Tuesday, ten in Oslo
		{"2026-12-01T20:59:00Z", []Window{nights}, []string{"turbine"}, "segment turbine may only be changed in a window: tue, thu 22:00 to 04:00 (Europe/Oslo)"},
		{"2026-12-02T02:59:00Z", []Window{nights}, []string{"office", "turbine"}, ""}, // the night of Tuesday
		{"2026-12-02T03:00:00Z", []Window{nights}, []string{"turbine"}, "segment turbine may only be changed in a window: tue, thu 22:00 to 04:00 (Europe/Oslo)"},
		{"2026-12-02T21:30:00Z", []Window{nights}, []string{"office"}, ""},
		{"2026-12-01T12:00:00Z", []Window{nights, days}, []string{"turbine"}, "segment turbine may only be changed in a window: tue, thu 22:00 to 04:00 (Europe/Oslo)"},
		{"2026-12-01T12:00:00Z", []Window{nights, days}, []string{"office"}, ""},
		{"2026-12-05T12:00:00Z", []Window{days}, nil, "the estate may only be changed in a window: mon, tue, wed, thu, fri 08:00 to 16:00 (UTC)"},
		{"2026-12-31T12:00:00Z", []Window{days, holidays}, []string{"office"}, "the estate: frozen from 2026-12-21 to 2026-12-31; the year is closed"},
		{"2027-01-01T12:00:00Z", []Window{days, holidays}, []string{"office"}, ""},
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		assert.Equal(t, c.want, shut(c.all, c.concern, at), "%s %v", c.at, c.concern)
	}
}
