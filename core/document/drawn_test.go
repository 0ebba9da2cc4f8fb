package document_test

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// faultless reports whether an estate has no fault: of two that claim one address, their
// order decides, and documents have another.
func faultless(e *estate.Estate) bool { return len(faults(e)) == 0 }

func faults(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// readable reports whether an estate can be a document: an edit may have drawn a name twice.
func readable(t *rapid.T, e *estate.Estate) bool {
	text, err := document.Write(e)
	require.NoError(t, err)
	_, err = document.Read(text)
	return err == nil
}

// TestADocumentSaysWhatTheEstateDoes holds the verdicts of a drawn estate to those of what
// its document says, in each form: a key that is not written, or read as another, changes
// some. Drawn estates have every clause.
func TestADocumentSaysWhatTheEstateDoes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := draw.Faultless(t, faults)
		for range rapid.IntRange(0, 3).Draw(t, "edits") {
			if next, _ := draw.Edit(t, e); faultless(next) && readable(t, next) {
				e = next
			}
		}
		yaml, err := document.Write(e)
		require.NoError(t, err)
		json, err := document.WriteJSON(e)
		require.NoError(t, err)
		joined, err := document.Join(e.Name, e.Description, document.Split(e))
		require.NoError(t, err)
		again := map[string]*estate.Estate{"joined": joined}
		for form, text := range map[string][]byte{"YAML": yaml, "JSON": json} {
			again[form], err = document.Read(text)
			require.NoError(t, err, "%s\n%s", form, text)
		}
		for form := range again { // the day is no part of a document
			again[form] = estate.AsOf(again[form], e.Day)
		}
		j := verdict.New(e)
		ends, ports := draw.Ends(e), draw.Ports()
		judges := map[string]*verdict.Judge{}
		for form, is := range again {
			text, err := document.Write(is)
			require.NoError(t, err)
			require.Equal(t, string(yaml), string(text), form)
			judges[form] = verdict.New(is)
		}
		for range 40 {
			p := rapid.SampledFrom(ports).Draw(t, "port")
			f := verdict.Flow{
				Segment: rapid.SampledFrom(e.Segments).Draw(t, "segment").Name, Source: rapid.SampledFrom(ends).Draw(t, "source"), Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
				Service: verdict.Service{Protocol: p.Protocol, SourcePort: p.Source, Port: p.Dest},
			}
			if f.Source.Is4() != f.Destination.Is4() {
				continue
			}
			if _, internal := j.Internal(j.Net.Segment(f.Segment), f.Source); !internal {
				continue
			}
			want := j.Judge(f)
			for form, is := range judges {
				require.Equal(t, want, is.Judge(f), "%s: %v", form, f)
			}
		}
	})
}

// spoil makes one mistake in a document, at a drawn place, and says which.
func spoil(t *rapid.T, root *yaml.Node) string {
	var maps, lists, texts []*yaml.Node
	var look func(n *yaml.Node)
	look = func(n *yaml.Node) {
		switch {
		case n.Kind == yaml.MappingNode && len(n.Content) > 0:
			maps = append(maps, n)
		case n.Kind == yaml.SequenceNode && len(n.Content) > 0:
			lists = append(lists, n)
		case n.Kind == yaml.ScalarNode:
			texts = append(texts, n)
		}
		for i, c := range n.Content {
			if n.Kind != yaml.MappingNode || i%2 == 1 {
				look(c)
			}
		}
	}
	look(root)
	what := rapid.SampledFrom([]string{"a key goes", "a key is another", "a key stands twice", "an item stands twice", "a text is another", "a text is a list", "a list is a text"}).Draw(t, "mistake")
	switch what {
	case "a key goes", "a key is another", "a key stands twice":
		m := rapid.SampledFrom(maps).Draw(t, "map")
		k := 2 * rapid.IntRange(0, len(m.Content)/2-1).Draw(t, "key")
		switch what {
		case "a key goes":
			m.Content = slices.Delete(m.Content, k, k+2)
		case "a key is another":
			m.Content[k].Value += "x"
		default:
			m.Content = append(m.Content, m.Content[k], m.Content[k+1])
		}
	case "an item stands twice":
		l := rapid.SampledFrom(lists).Draw(t, "list")
		l.Content = append(l.Content, rapid.SampledFrom(l.Content).Draw(t, "item"))
	case "a list is a text":
		*rapid.SampledFrom(lists).Draw(t, "list") = yaml.Node{Kind: yaml.ScalarNode, Value: "some"}
	default:
		n := rapid.SampledFrom(texts).Draw(t, "text")
		if n.Value = rapid.SampledFrom([]string{"", "no-such", "Ä", "10.0.0.1/8", "-1", "70000", "any", "all", "tcp/99999", "a in ("}).Draw(t, "value"); what == "a text is a list" {
			*n = yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{{Kind: yaml.ScalarNode, Value: n.Value}}}
		}
	}
	return what
}

var placed = regexp.MustCompile(`^[a-z]\w*(\[\d+\]|\.\w+)*$`)

// TestAMistakeIsAnErrorWithItsPlace makes a mistake in the document of a drawn estate. It
// is read in spite of it, or refused with errors of which each tells its line, its place,
// and how to fix it.
func TestAMistakeIsAnErrorWithItsPlace(t *testing.T) {
	wants := meet.Often(3, "a key goes", "a key is another", "a key stands twice", "an item stands twice", "a text is another", "a text is a list", "a list is a text")
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		text, err := document.Write(rapid.Custom(draw.Estate).Draw(t, "estate"))
		require.NoError(t, err)
		var root yaml.Node
		require.NoError(t, yaml.Unmarshal(text, &root))
		what := spoil(t, &root)
		text, err = yaml.Marshal(&root)
		require.NoError(t, err)

		e, err := document.Read(text)
		if err == nil {
			require.NotNil(t, e)
			for _, f := range estate.Check(e) { // what is wrong in itself is a fault
				require.NotEmpty(t, f.Code)
				require.NotEmpty(t, f.Refs, f.Code)
			}
			return
		}
		met[what]++
		require.Nil(t, e, "nothing is half read")
		var all document.Errors
		require.True(t, errors.As(err, &all), "%v", err)
		lines := strings.Count(string(text), "\n") + 1
		for _, one := range all {
			require.NotEmpty(t, one.Message)
			require.NotEmpty(t, one.Fix, "%v\n%s", one, text)
			require.True(t, 0 < one.Line && one.Line <= lines, "%v\n%s", one, text)
			require.True(t, one.Path == "" || placed.MatchString(one.Path), "%q: %v", one.Path, one)
		}
		for i := range len(all) - 1 {
			require.LessOrEqual(t, all[i].Line, all[i+1].Line, "errors come in the order of lines")
		}
	})
}

// TestABrokenNameIsFoundWhereItStands puts a name that nothing bears in the place of one
// that something does, wherever an estate speaks of another thing by name: a fault stands at
// its line.
func TestABrokenNameIsFoundWhereItStands(t *testing.T) {
	broken := regexp.MustCompile(`\b(hub|segment|network|pool|rulebook|exit|account): (\w[\w-]*)`)
	meet.Check(t, meet.Often(2, "hub", "segment", "network", "pool", "rulebook", "exit"), func(t *rapid.T, met meet.Met) {
		text, err := document.Write(rapid.Custom(draw.Estate).Draw(t, "estate"))
		require.NoError(t, err)
		places := broken.FindAllSubmatchIndex(text, -1)
		if len(places) == 0 {
			return
		}
		at := rapid.SampledFrom(places).Draw(t, "place")
		kind := string(text[at[2]:at[3]])
		spoilt := slices.Concat(text[:at[4]], []byte("nobodys-name"), text[at[5]:])
		line := 1 + strings.Count(string(text[:at[4]]), "\n")

		e, err := document.Read(spoilt)
		if err != nil {
			return // it was no name of another thing
		}
		faults := estate.Check(e)
		paths := make([]string, len(faults))
		for i, f := range faults {
			paths[i] = f.Path
		}
		lines, err := document.Locate(spoilt, paths)
		require.NoError(t, err)
		met[kind]++
		found := false
		for i, f := range faults {
			if f.Code == "F1" && strings.Contains(f.Refs[1].Name, "nobodys-name") {
				require.InDelta(t, line, lines[i], 1, "%s: %s\n%s", f.Path, f.Refs, spoilt)
				found = true
			}
		}
		require.True(t, found, "%s in line %d: %v\n%s", kind, line, fmt.Sprint(faults), spoilt)
	})
}

// TestPrefixesKeepTheirPlaces sorts drawn prefixes as documents do: by address, then the
// wide before the narrow, IPv4 first.
func TestPrefixesKeepTheirPlaces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var static []estate.Static
		for range rapid.IntRange(2, 8).Draw(t, "prefixes") {
			a := netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "four")))
			if rapid.Bool().Draw(t, "six") {
				a = netip.AddrFrom16([16]byte(append([]byte{0xfd}, rapid.SliceOfN(rapid.Byte(), 15, 15).Draw(t, "sixteen")...)))
			}
			p := netip.PrefixFrom(a, rapid.IntRange(1, a.BitLen()).Draw(t, "bits")).Masked()
			if !slices.ContainsFunc(static, func(s estate.Static) bool { return s.Prefix == p }) {
				static = append(static, estate.Static{Prefix: p, Segment: "s"})
			}
		}
		e, err := document.Read([]byte("{bivium: 1, estate: e, segments: [{name: s}], hubs: [{name: h}], networks: [{name: n, kind: site}], attachments: [{network: n, hub: h}]}"))
		require.NoError(t, err)
		e.Attachments[0].Static = static
		text, err := document.Write(e)
		require.NoError(t, err)
		again, err := document.Read(text)
		require.NoError(t, err, "%s", text)
		want := slices.Clone(static)
		slices.SortFunc(want, func(a, b estate.Static) int {
			if x, y := a.Prefix.Addr().Is6(), b.Prefix.Addr().Is6(); x != y {
				if x {
					return 1
				}
				return -1
			}
			if d := a.Prefix.Addr().Compare(b.Prefix.Addr()); d != 0 {
				return d
			}
			return a.Prefix.Bits() - b.Prefix.Bits()
		})
		require.Equal(t, want, again.Attachments[0].Static)
	})
}
