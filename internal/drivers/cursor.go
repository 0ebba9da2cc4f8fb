package drivers

import (
	"encoding/json"
	"fmt"
)

// Cursor returns a driver's place in an inventory as text.
func Cursor(place any) string {
	b, err := json.Marshal(place)
	if err != nil {
		panic(fmt.Sprintf("drivers: a cursor that JSON cannot hold: %v", err))
	}
	return string(b)
}

// ReadCursor puts the place that a cursor stands for into place, which stays as
// it is for the empty one.
func ReadCursor(cursor string, place any) error {
	if cursor == "" {
		return nil
	}
	if err := json.Unmarshal([]byte(cursor), place); err != nil {
		return fmt.Errorf("the cursor %.40q is none of this driver: %w", cursor, err)
	}
	return nil
}
