package standin

import (
	"fmt"
	"net/netip"
)

// Many returns an account with as many networks and machines as are asked for,
// tagged as unevenly as teams do; up to 65,536 networks of 254 machines each.
func Many(name, provider string, networks, machines int) *Account {
	a := &Account{Name: name, Provider: provider, Key: name + "-key", Secret: name + "-secret", Rate: 5000}
	for i := range networks {
		prefix := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i >> 8), byte(i), 0}), 24)
		a.Networks = append(a.Networks, &Network{
			ID: fmt.Sprintf("net-%05d", i), Name: fmt.Sprintf("net %05d", i), Kind: "cloud", Region: fmt.Sprintf("region-%d", i%4),
			Subnets: []Subnet{{"all", prefix}},
		})
	}
	if networks > 0 {
		on := "all"
		if provider == "cirra" {
			on = "machine 000000"
		}
		a.Rules = []Rule{{Network: a.Networks[0].ID, On: on, Priority: 200, Action: "allow", Protocol: "tcp", Ports: "443", From: a.Networks[0].Subnets[0].Prefix}}
	}
	envs := []map[string]string{{"Env": "Production"}, {"environment": "prod"}, {"stage": "dev"}, {"ENV": "Test"}}
	for i := range machines {
		n := i % networks
		tags := map[string]string{"App": fmt.Sprintf("app-%03d", i%300)}
		for key, value := range envs[i%len(envs)] {
			tags[key] = value
		}
		at := netip.AddrFrom4([4]byte{10, byte(n >> 8), byte(n), byte(1 + i/networks%254)})
		a.Machines = append(a.Machines, &Machine{ID: fmt.Sprintf("m-%06d", i), Name: fmt.Sprintf("machine %06d", i), Network: a.Networks[n].ID, Addresses: []netip.Addr{at}, Tags: tags})
	}
	return a
}
