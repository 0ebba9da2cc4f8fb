// Package limits says in one place how much Bivium takes in at once and keeps at hand, so
// that nothing that comes from outside takes more memory or time than there is. Each is far
// beyond the largest estate that the product is measured with (512 segments there are 64
// of, and so on), and each is told plainly where it is met.
package limits

import (
	"errors"
	"fmt"
	"time"
)

// Of documents, and of what stands in them.
const (
	// DocumentBytes is the size of the largest document that is read. A node of a parsed
	// document takes about ten times its text.
	DocumentBytes = 256 << 20
	// DocumentDepth bounds nesting; no estate nests deeper than eight.
	DocumentDepth = 64
	// DocumentAliases bounds how many nodes the aliases of a YAML document expand to.
	DocumentAliases = 1_000_000
	// DocumentErrors is how many errors reading collects before it gives up: enough to
	// fix a file in one go, and few enough to read.
	DocumentErrors = 50
	// FlowRowBytes is the longest row of a flow file.
	FlowRowBytes = 1 << 20
	// FlowAnswerBytes is how much of the answer to a flow file is held back until the whole
	// of the file is known to be readable.
	FlowAnswerBytes = 16 << 20
	// Segments is how many segments an estate has at most: what differs between two
	// estates is told by pairs of them.
	Segments = 512
	// Hubs is how many hubs an estate has at most: the ways between them are found by
	// pairs, in each segment.
	Hubs = 512
)

// Of what is worked out.
const (
	// Crossings is how many pairs of a kind of sources and a kind of destinations rules may
	// tell apart, in all segments together; they take four bytes each.
	Crossings = 1 << 28
	// Outcomes is how many outcomes are kept: of each way in which flows may fare, one by
	// each kind of service that rules tell apart; they take four bytes each.
	Outcomes = 1 << 26
)

// Of requests. A person waits for each of them.
const (
	// Connections is how many connections the server has open at once; others wait.
	Connections = 1024
	// HeaderBytes is how long the headers of a request are together, BodyBytes its body,
	// but for one that brings a document.
	HeaderBytes = 16 << 10
	BodyBytes   = 1 << 20
	// ReadTime is how long a request may take to arrive, HeaderTime its headers, WriteTime
	// its answer to be worked out and to leave; IdleTime is how long a connection may wait
	// for another request.
	ReadTime   = time.Minute
	HeaderTime = 10 * time.Second
	WriteTime  = 5 * time.Minute
	IdleTime   = 2 * time.Minute
	// Documents is how many requests that bring a document are under way at once, one of
	// them being worked on; others are told to come back.
	Documents = 8
	// AnswerBytes is how much memory answers are kept in that may be asked for again.
	AnswerBytes = 64 << 20
)

// NativeClasses is how many classes of endpoints an estate has at most whose native rules the
// server translates: with more, that takes minutes, and memory that others need.
const NativeClasses = 150_000

// Of what providers answer.
const (
	// ProviderAnswer is the most that is read of one answer, in bytes.
	ProviderAnswer = 32 << 20
	// ProviderPages is how many pages an inventory has at most, ProviderThings how many
	// networks and workloads are on them, and ProviderBytes how much they take.
	ProviderPages  = 100_000
	ProviderThings = 1_000_000
	ProviderBytes  = 1 << 30
	// ProviderNotes is how many notes on what was left out are kept.
	ProviderNotes = 1000
	// ProviderWait is the longest that a provider may ask to be left alone for.
	ProviderWait = 30 * time.Second
)

// Exceeded is that something needs more than a limit allows. Work that finds out while it
// runs panics with it.
type Exceeded struct {
	What string // that there is too much of, such as "segments"
	Most int
	Fix  string
}

// Error says of what there is too much.
func (e *Exceeded) Error() string { return fmt.Sprintf("there are more than %d %s", e.Most, e.What) }

// Of returns the limit that a recovered panic is about, or nil if it is about something
// else.
func Of(recovered any) *Exceeded {
	err, _ := recovered.(error)
	var e *Exceeded
	if errors.As(err, &e) {
		return e
	}
	return nil
}
