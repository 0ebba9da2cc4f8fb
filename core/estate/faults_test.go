package estate_test

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
)

func TestFaultsStandWhereTheyAreMarked(t *testing.T) {
	text, err := os.ReadFile("testdata/faults.yaml")
	require.NoError(t, err)
	e, err := document.Read(text)
	require.NoError(t, err)

	var want, got []string
	mark := regexp.MustCompile(`# (F\d+)$`)
	for i, line := range strings.Split(string(text), "\n") {
		if m := mark.FindStringSubmatch(line); m != nil {
			want = append(want, fmt.Sprintf("line %d: %s", i+1, m[1]))
		}
	}
	faults := estate.Check(e)
	paths := make([]string, len(faults))
	for i, f := range faults {
		paths[i] = f.Path
	}
	lines, err := document.Locate(text, paths)
	require.NoError(t, err)
	codes := map[estate.Code]bool{}
	for i, f := range faults {
		got = append(got, fmt.Sprintf("line %d: %s", lines[i], f.Code))
		codes[f.Code] = true
		assert.NotEmpty(t, f.Refs, f.Code)
	}
	assert.ElementsMatch(t, want, got)
	assert.Len(t, codes, 17, "every fault has an example")
}

func TestFaultProposesTheNameThatWasMeant(t *testing.T) {
	e := &estate.Estate{
		Services: []estate.Service{{Name: "web"}, {Name: "dns"}},
		Policies: []estate.Policy{{Name: "p", Segments: estate.Scope{All: true}, Rules: []estate.Rule{{Services: []estate.ServiceRef{{Name: "wbe"}}, Action: estate.Deny}}}},
	}
	faults := estate.Check(e)
	require.Len(t, faults, 1)
	assert.Equal(t, "policies[0].rules[0].services[0]", faults[0].Path)
	assert.Equal(t, []string{"web"}, faults[0].Args)
}

func TestSelector(t *testing.T) {
	labels := map[string]string{"app": "web", "env": "prod", "empty": ""}
	for text, want := range map[string]bool{
		"app=web": true, "app == web": true, "app=db": false, "app!=db": true, "app!=web": false,
		"app": true, "!app": false, "!gone": true, "gone": false,
		"gone=web": false, "gone!=web": true, "gone in (web)": false, "gone notin (web)": true,
		"app in (db, web)": true, "app notin (db, web)": false, "env in (prod,test), app": true, "env=prod,app=db": false,
		"empty=": true, "empty=x": false, "inside": false, "in in (a)": false, "notin": false,
	} {
		s, err := estate.ParseSelector(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, s.Matches(labels), text)
		}
	}
	for text, at := range map[string]string{
		"": "character 1", "app=web,": "character 9", "app in web": "character 8", "app in (web": "character 12",
		"app web": "character 5", "=web": "character 1", "app in ()": "character 9", "a=b;c": "character 4",
	} {
		_, err := estate.ParseSelector(text)
		assert.ErrorContains(t, err, at, text)
	}
}

func TestTerm(t *testing.T) {
	for text, want := range map[string]string{
		"tcp": "tcp", "tcp/443": "tcp/443", "tcp/0-65535": "tcp", "udp/53-53": "udp/53", "icmp": "icmp", "icmp/8": "icmp/8",
		"icmpv6/128": "icmpv6/128", "proto/6": "tcp", "proto/47": "proto/47", "any": "any",
		"tcp/22 from 1024-65535": "tcp/22 from 1024-65535", "tcp from 20": "tcp from 20", "udp/53 from 0-65535": "udp/53",
	} {
		term, err := estate.ParseTerm(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, term.String(), text)
	}
	for _, text := range []string{"tcp/", "tcp/65536", "tcp/9-1", "icmp/256", "proto/256", "proto", "web", "tcp/-1", "tcp/1-2-3", "proto/47/1", "tcp/22 from", "tcp/22 from 9-1", "any from 3", "icmp/8 from 5"} {
		_, err := estate.ParseTerm(text)
		assert.Error(t, err, text)
	}
	_, err := estate.ParseTermObject("icmp", "8", "5")
	assert.ErrorContains(t, err, "no source ports")
	_, err = estate.ParseTermObject("47", "8", "")
	assert.ErrorContains(t, err, "no ports")
}

func FuzzSelector(f *testing.F) {
	f.Add("app in (a, b), !c, d!=e") // every operator
	f.Add("a=,b")                    // an empty value
	f.Fuzz(func(t *testing.T, text string) {
		s, err := estate.ParseSelector(text)
		if err == nil {
			s.Matches(map[string]string{"app": "a"})
		}
	})
}

func FuzzTerm(f *testing.F) {
	f.Add("tcp/8000-8099")
	f.Add("proto/47")
	f.Add("udp/53 from 1024-65535")
	f.Fuzz(func(t *testing.T, text string) {
		term, err := estate.ParseTerm(text)
		if err != nil {
			return
		}
		again, err := estate.ParseTerm(term.String())
		if err != nil || again != term {
			t.Fatalf("%q is written %q, which is read as %v (%v)", text, term, again, err)
		}
	})
}
