package window

import "slices"

// gather puts runs of segments together: where each begins and ends.
func (r *Reducer) gather(parts []int) gathered {
	out := gathered{sure: make([]spells, len(r.tracks)), may: make([]spells, len(r.tracks))}
	for k := 0; k < len(parts); k += 2 {
		for segment := parts[k]; segment < parts[k+1]; segment++ {
			out.sum.Absorb(&r.sums[segment])
			for t := range r.tracks {
				out.sure[t].then(r.sure[t][segment], segment > parts[k])
				out.may[t].then(r.may[t][segment], segment > parts[k])
			}
			if r.readings != nil {
				out.sorted = append(out.sorted, r.readings[segment]...)
			}
		}
	}
	slices.Sort(out.sorted)
	return out
}

// counting says of each segment whether it belongs to any window, and not to a hole
// between them.
func (r *Reducer) counting() []bool {
	out := make([]bool, len(r.plan.bounds)-1)
	for i := range out {
		out[i] = r.plan.parts == nil
	}
	for _, part := range r.plan.parts {
		for k := 0; k < len(part); k += 2 {
			for segment := part[k]; segment < part[k+1]; segment++ {
				out[segment] = true
			}
		}
	}
	return out
}

// runs returns where the runs of true begin and end.
func runs(of []bool) (out []int) {
	for i, yes := range of {
		if yes != (i > 0 && of[i-1]) {
			out = append(out, i)
		}
	}
	if len(of) > 0 && of[len(of)-1] {
		out = append(out, len(of))
	}
	return out
}
