package flowfile_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/flowfile"
	"bivium/core/verdict"
)

func TestRowsAreKeptVerbatimAndVerdictsAdded(t *testing.T) {
	in := "note,protocol,destination,source,segment,dport\n" + `"a, b",TCP6,x,y,z,0` + "\n"
	_, err := flowfile.Read(strings.NewReader(in), []string{"z"})
	require.ErrorContains(t, err, "line 2, column source")

	in = "note,protocol,destination,source,segment,dport\n\"a, b\",6,10.0.0.2,10.0.0.1,office,\n,icmp,2001:db8::1,2001:db8::2,internet,8\n"
	table, err := flowfile.Read(strings.NewReader(in), []string{"office"})
	require.NoError(t, err)
	require.Len(t, table.Flows, 2)
	assert.Equal(t, uint8(6), table.Flows[0].Protocol)
	assert.Equal(t, uint16(0), table.Flows[0].Port, "an empty port is 0")
	assert.Equal(t, uint16(8), table.Flows[1].Port)
	var out bytes.Buffer
	require.NoError(t, table.Write(&out, []verdict.Verdict{
		{Outcome: verdict.Inspected, Intended: "inspect", Pools: []string{"p", "q"}, Reason: verdict.ReasonPolicy, By: []string{"r", "s"}, Contested: true},
		{Outcome: verdict.Unrouted, Reason: verdict.ReasonUnknown},
	}))
	assert.Equal(t, "note,protocol,destination,source,segment,dport,outcome,intended,pools,reason,by,contested\n"+
		"\"a, b\",6,10.0.0.2,10.0.0.1,office,,inspected,inspect,p;q,policy,r;s,true\n"+
		",icmp,2001:db8::1,2001:db8::2,internet,8,unrouted,,,unknown,,false\n", out.String())
}

func TestRowsThatCannotBeReadSayWhere(t *testing.T) {
	const header = "segment,source,destination,protocol,sport,dport\n"
	for given, expect := range map[string]string{
		"":                             "line 1: the file is empty",
		"segment,source,destination\n": "line 1, column protocol: the column is missing",
		"segment,segment,source,destination,protocol\n":      "column segment: the column appears twice",
		header + "lost,10.0.0.1,10.0.0.2,6,,\n":              `line 2, column segment: unknown segment "lost"`,
		header + "office,10.0.0.1,10.0.0.2,6,,\noffice,,,,,": "line 3, column source",
		header + "office,10.0.0.1,10.0.0,6,,\n":              "line 2, column destination",
		header + "office,10.0.0.1,fe80::1%eth0,6,,\n":        "line 2, column destination",
		header + "office,10.0.0.1,10.0.0.2,gre,,\n":          "line 2, column protocol",
		header + "office,10.0.0.1,10.0.0.2,256,,\n":          "line 2, column protocol",
		header + "office,10.0.0.1,10.0.0.2,6,65536,\n":       "line 2, column sport",
		header + "office,10.0.0.1,10.0.0.2,6,,-1\n":          "line 2, column dport",
		header + "office,10.0.0.1\n":                         "line 2",
		header + "office,\"10.0.0.1,10.0.0.2,6,,\n":          "line",
	} {
		_, err := flowfile.Read(strings.NewReader(given), []string{"office"})
		assert.ErrorContains(t, err, expect, given)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("segment,source,destination,protocol\noffice,10.0.0.1,10.0.0.2,6\n")
	f.Add("segment,source,destination,protocol,dport\ninternet,::1,::2,icmpv6,128\n")
	f.Fuzz(func(t *testing.T, text string) {
		table, err := flowfile.Read(strings.NewReader(text), []string{"office"})
		if err == nil && len(table.Rows) != len(table.Flows) {
			t.Fatal("a row has no flow")
		}
	})
}
