package dialect

import "testing"

// The descriptions are whole and don't contradict themselves, so that a new one
// can't leave a question open that the deciding would answer by chance.
func TestDescriptionsAreWhole(t *testing.T) {
	names := make(map[string]bool)
	for _, d := range All {
		if names[d.Name] || d.Name == "" || d.About == "" {
			t.Errorf("%q is named twice, or has no name or no line for people", d.Name)
		}
		names[d.Name] = true
		if found, ok := Lookup(d.Name); !ok || found.Name != d.Name {
			t.Errorf("%s is not found by its name", d.Name)
		}
		if d.Layers == "" || d.Nothing == "" || d.GroupsAcross == "" || d.OwnLists == "" || d.Instances.State == "" {
			t.Errorf("%s leaves something open: %+v", d.Name, d)
		}
		if d.SubnetGroups != (d.Subnets.State != "") || d.SubnetGroups == (d.Layers == InstancesOnly) {
			t.Errorf("%s is not of one mind about subnet groups", d.Name)
		}
		if d.RulesPerDirection > 0 && d.RulesPerGroup > 0 {
			t.Errorf("%s counts rules in two ways", d.Name)
		}
		for _, f := range []Filter{d.Instances, d.Subnets} {
			if (f.State == StateByRule) != d.StateByRule && f.State != "" {
				t.Errorf("%s: state by rule is %v, and a filter says %s", d.Name, d.StateByRule, f.State)
			}
			if f.Refuses && !f.FirstMatch {
				t.Errorf("%s: where rules add up a refusal has no place", d.Name)
			}
			last := map[bool]int{}
			for _, r := range f.Fixed {
				if !f.FirstMatch || r.Rank <= last[r.In] || !r.Admit && !f.Refuses {
					t.Errorf("%s: the fixed rule %+v is out of order", d.Name, r)
				}
				last[r.In] = r.Rank
				if !map[string]bool{"network": true, "probes": r.In, "public": !r.In, "anything": true}[r.From] {
					t.Errorf("%s: the fixed rule %+v is about nobody", d.Name, r)
				}
			}
		}
	}
	if len(names) != len(Names()) {
		t.Errorf("%d names for %d dialects", len(Names()), len(names))
	}
	if _, ok := Lookup("Union"); ok {
		t.Error("names are as they are written")
	}
}
