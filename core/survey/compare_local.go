package survey

// locals mends what bundles say for pairs of one network: between them, ways are
// local.
func (p *pairing) locals(disturbed []int32, sources, targets []bundle) {
	joints := p.land(p.from).joints
	srcOf, dstOf := make([]int32, len(joints)), make([]int32, len(joints))
	for i := range srcOf {
		srcOf[i], dstOf[i] = -1, -1
	}
	for n := range sources {
		for _, i := range sources[n].joints {
			srcOf[i] = int32(n)
		}
	}
	for n := range targets {
		for _, i := range targets[n].joints {
			dstOf[i] = int32(n)
		}
	}
	oldNet, newNet := p.networks(p.old.Survey, false), p.networks(p.new.Survey, true)
	same := p.old.id == p.new.id
	for _, i := range disturbed {
		x := &joints[i]
		visit := func(k int32) {
			y := &joints[k]
			if x.four != y.four || dstOf[k] < 0 {
				return
			}
			src, dst := &sources[srcOf[i]], &targets[dstOf[k]]
			p.mend(i, k, src, dst)
		}
		if x.old >= 0 {
			for _, k := range oldNet[p.old.classes[x.old].End.Home.Network] {
				visit(k)
			}
		}
		if x.new < 0 || same {
			continue
		}
		for _, k := range newNet[p.new.classes[x.new].End.Home.Network] {
			if y := &joints[k]; x.old >= 0 && y.old >= 0 && p.old.classes[x.old].End.Home.Network == p.old.classes[y.old].End.Home.Network {
				continue // seen above
			}
			visit(k)
		}
	}
}

// networks returns the joints of the territory by their home network.
func (p *pairing) networks(s *Survey, new bool) map[int][]int32 {
	out := map[int][]int32{}
	for i := range p.lands[p.from].joints {
		class := p.lands[p.from].joints[i].old
		if new {
			class = p.lands[p.from].joints[i].new
		}
		if class >= 0 {
			n := s.classes[class].End.Home.Network
			out[n] = append(out[n], int32(i))
		}
	}
	return out
}

// mend puts right what the bundles of two joints say about them.
func (p *pairing) mend(i, k int32, src, dst *bundle) {
	joints := p.land(p.from).joints
	x, y := &joints[i], &joints[k]
	saidBefore, saidAfter := p.old.far(src.old, dst.old), p.new.far(src.new, dst.new)
	before, after := p.nearOrFar(&p.old, x.old, y.old, saidBefore), p.nearOrFar(&p.new, x.new, y.new, saidAfter)
	if i != k && before == saidBefore && after == saidAfter {
		return
	}
	if saidBefore != saidAfter {
		p.except(i, k, saidBefore, saidAfter, x.size, y.size, -1)
	}
	if before == after || i == k && x.size.one() {
		return
	}
	p.except(i, k, before, after, x.size, y.size, 1)
}

func (p *pairing) nearOrFar(v *view, x, y int, far int32) int32 {
	if x < 0 || y < 0 || v.classes[x].End.Home.Network != v.classes[y].End.Home.Network {
		return far
	}
	return v.near(x, y)
}
