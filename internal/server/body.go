package server

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"reflect"
	"strconv"
	"strings"

	"bivium/internal/app/view"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/labstack/echo/v4"
)

// read puts the body of a request into out. What does not belong there is a Problem with
// its place.
func read(c echo.Context, out any) error {
	err := json.UnmarshalRead(c.Request().Body, out, json.RejectUnknownMembers(true))
	var wrong *json.SemanticError
	var broken *jsontext.SyntacticError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &wrong):
		return misplaced(wrong)
	case errors.As(err, &broken):
		return echo.NewHTTPError(http.StatusBadRequest, fmt.Sprintf("the request is not valid JSON at byte %d: %v", broken.ByteOffset, broken.Err))
	}
	return err // the connection broke, or it is too long
}

// misplaced tells what stands where something else belongs.
func misplaced(e *json.SemanticError) *view.Problem {
	at := placeOf(e.JSONPointer)
	if errors.Is(e, json.ErrUnknownName) {
		return &view.Problem{At: at, Message: fmt.Sprintf("unexpected key %q", e.JSONPointer.LastToken()), Fix: "remove it, or see docs/formats.md"}
	}
	given := map[jsontext.Kind]string{'n': "null", 't': "true", 'f': "false", '{': "an object", '[': "a list"}[e.JSONKind]
	if len(e.JSONValue) > 0 {
		given = fmt.Sprintf("%.80s", e.JSONValue)
	}
	if given == "" {
		given = "something else"
	}
	wanted := wantedBy(e.GoType)
	return &view.Problem{At: at, Message: fmt.Sprintf("%s found where %s is expected", given, wanted), Fix: "write " + wanted}
}

// wantedBy says what a type is read from.
func wantedBy(t reflect.Type) string {
	if t == nil {
		return "something else"
	}
	switch t {
	case reflect.TypeFor[netip.Prefix]():
		return "a prefix such as 10.7.0.0/16"
	case reflect.TypeFor[netip.Addr]():
		return "an address such as 10.7.0.9"
	}
	switch t.Kind() {
	case reflect.String:
		return "text"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice:
		return "a list"
	case reflect.Struct, reflect.Map, reflect.Pointer:
		return "an object"
	}
	return "a whole number"
}

// placeOf writes a pointer as problems do: edits[0].prefix.
func placeOf(p jsontext.Pointer) string {
	var b strings.Builder
	for token := range p.Tokens() {
		if _, err := strconv.Atoi(token); err == nil {
			b.WriteString("[" + token + "]")
			continue
		}
		if b.Len() > 0 {
			b.WriteByte('.')
		}
		b.WriteString(token)
	}
	return b.String()
}
