package flowfile

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/limits"
	"bivium/core/verdict"
)

// told is a verdict that depends on every part of a flow.
func told(f *verdict.Flow) verdict.Verdict {
	return verdict.Verdict{Outcome: verdict.Allowed, By: []string{fmt.Sprint(*f)}, Contested: f.Port%2 == 1}
}

// TestJudgeIsReadAndWrite holds what is worked on in parts, of any size, to what is read
// whole: rows over several lines, quotes, empty lines, and the first of several errors.
func TestJudgeIsReadAndWrite(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		field := rapid.SampledFrom([]string{"", "x", "\"a, b\"", "\"two\nlines\"", "\"say \"\"so\"\"\"", "\"\r\n\r\n\"", "plain text"})
		var text strings.Builder
		end := rapid.SampledFrom([]string{"\n", "\n", "\r\n", "\n\n"})
		text.WriteString("\"no\nte\",segment,source,destination,protocol,sport,dport,more" + end.Draw(t, "end"))
		for range rapid.IntRange(0, 30).Draw(t, "rows") {
			switch rapid.IntRange(0, 60).Draw(t, "kind") {
			case 0:
				text.WriteString("x,lost,10.0.0.1,10.0.0.2,6,,,y")
			case 1:
				text.WriteString("too,few")
			case 2:
				text.WriteString("bare\"quote,office,10.0.0.1,10.0.0.2,6,,,")
			case 3:
				text.WriteString("\"left open,office,10.0.0.1,10.0.0.2,6,,,")
			default:
				fmt.Fprintf(&text, "%s,office,10.0.0.%d,10.0.0.2,tcp,,%d,%s", field.Draw(t, "a"), rapid.Byte().Draw(t, "host"), rapid.Uint16().Draw(t, "port"), field.Draw(t, "b"))
			}
			text.WriteString(end.Draw(t, "end"))
		}
		var all, parts bytes.Buffer
		table, expect := Read(strings.NewReader(text.String()), []string{"office"})
		if expect == nil {
			var verdicts []verdict.Verdict
			for i := range table.Flows {
				verdicts = append(verdicts, told(&table.Flows[i]))
			}
			require.NoError(t, table.Write(&all, verdicts))
		}
		err := judge(strings.NewReader(text.String()), &parts, []string{"office"}, told, rapid.IntRange(1, 400).Draw(t, "stroke"))
		require.Equal(t, fmt.Sprint(expect), fmt.Sprint(err), text.String())
		require.Equal(t, all.String(), parts.String(), text.String())
	})
}

// endless is rows without an end.
type endless struct{ row string }

func (e endless) Read(p []byte) (int, error) { return copy(p, e.row), nil } // p is longer

// full is a disk with no room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space left") }

// TestJudgeEnds holds that it ends, with the error, where its input never does.
func TestJudgeEnds(t *testing.T) {
	header := "segment,source,destination,protocol\n"
	rows := io.MultiReader(strings.NewReader(header), endless{"office,10.0.0.1,10.0.0.2,6\n"})
	assert.ErrorContains(t, Judge(rows, full{}, []string{"office"}, told), "no space left")
	rows = io.MultiReader(strings.NewReader(header+"lost,10.0.0.1,10.0.0.2,6\n"), endless{"office,10.0.0.1,10.0.0.2,6\n"})
	assert.ErrorContains(t, Judge(rows, io.Discard, []string{"office"}, told), "line 2, column segment")
	rows = io.MultiReader(strings.NewReader(header+"\"office"), endless{"\n"})
	assert.ErrorContains(t, Judge(rows, io.Discard, []string{"office"}, told), fmt.Sprintf("line 2: a row from here on has more than %d bytes", limits.FlowRowBytes))
	rows = io.MultiReader(strings.NewReader(header), endless{"office,10.0.0.1,10.0.0.2,6\n"})
	assert.Panics(t, func() {
		_ = Judge(rows, io.Discard, []string{"office"}, func(*verdict.Flow) verdict.Verdict { panic("no verdict") })
	})
}

// BenchmarkJudge works on a hundred thousand flows, and reads and writes their file alone.
func BenchmarkJudge(b *testing.B) {
	var text bytes.Buffer
	text.WriteString("segment,source,destination,protocol,sport,dport\n")
	for i := range 100_000 {
		fmt.Fprintf(&text, "office,%s,10.%d.7.9,6,%d,443\n", netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), i%200, 1024+i%60000)
	}
	b.Run("judge", func(b *testing.B) {
		for b.Loop() {
			require.NoError(b, Judge(bytes.NewReader(text.Bytes()), io.Discard, []string{"office"}, func(*verdict.Flow) verdict.Verdict {
				return verdict.Verdict{Outcome: verdict.Allowed, Intended: estate.Allow, Reason: verdict.ReasonPolicy, By: []string{"policy-0001"}}
			}))
		}
	})
	b.Run("alone", func(b *testing.B) {
		for b.Loop() {
			r, w := csv.NewReader(bytes.NewReader(text.Bytes())), csv.NewWriter(io.Discard)
			r.ReuseRecord = true
			for {
				row, err := r.Read()
				if err != nil {
					break
				}
				_ = w.Write(append(row, "allowed", "allow", "", "policy", "policy-0001", "false"))
			}
			w.Flush()
		}
	})
}
