package routes

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

// What LVM 2.03.16 prints of a disk with two partitions in one group.
const (
	pvsBookworm = `{"report": [{"pv": [
 {"pv_name":"/dev/vdb1", "pe_start":"2048", "vg_extent_size":"8192"},
 {"pv_name":"/dev/vdb3", "pe_start":"4096", "vg_extent_size":"8192"}]}]}`
	lvsBookworm = `{"report": [{"seg": [
 {"vg_name":"hold-a", "lv_name":"root", "segtype":"linear", "seg_start":"81920", "seg_size":"8192", "devices":"/dev/vdb3(2)"},
 {"vg_name":"hold-a", "lv_name":"root", "segtype":"linear", "seg_start":"0", "seg_size":"81920", "devices":"/dev/vdb1(5)"},
 {"vg_name":"hold-a", "lv_name":"log", "segtype":"raid1", "seg_start":"0", "seg_size":"8192", "devices":"log_rimage_0(0),log_rimage_1(0)"},
 {"vg_name":"hold-a", "lv_name":"far", "segtype":"linear", "seg_start":"0", "seg_size":"8192", "devices":"[unknown](0)"},
 {"vg_name":"hold-a", "lv_name":"other", "segtype":"linear", "seg_start":"0", "seg_size":"8192", "devices":"/dev/vda1(0)"},
 {"vg_name":"hold-a", "lv_name":"wide", "segtype":"striped", "seg_start":"0", "seg_size":"8192", "devices":"/dev/vdb1(0),/dev/vdb3(0)"}]}]}`
)

func TestGroups(t *testing.T) {
	parts := []string{"/dev/vdb1", "/dev/vdb3"}
	all, err := ReadGroups([]byte(pvsBookworm), []byte(lvsBookworm), parts)
	if err != nil || len(all) != 5 {
		t.Fatalf("%+v %v", all, err)
	}
	// 2048 + 5 extents of 8192, and 4096 + 2 of them.
	if root := all[0]; !slices.Equal(root.Table, []string{"0 81920 linear /dev/vdb1 43008", "81920 8192 linear /dev/vdb3 20480"}) || root.Not != "" ||
		!slices.Equal(root.Names(), []string{"/dev/hold-a/root", "/dev/mapper/hold--a-root"}) {
		t.Errorf("%+v %v", root, root.Names())
	}
	for _, v := range all[1:] {
		if v.Table != nil || v.Not == "" {
			t.Errorf("laid out, and it is not plain: %+v", v)
		}
	}
	if is := []string{"0 81920 linear 254:17 43008", "81920 8192 linear 254:19 20480"}; !SameTable(all[0].Table, is) || SameTable(all[0].Table, is[:1]) ||
		SameTable(all[0].Table, []string{is[0], "81920 8192 linear 254:19 20481"}) || SameTable(all[0].Table, []string{is[0], ""}) {
		t.Error("a table is not known again, or another is taken for it")
	}
	// One partition alone: what lies on the other is not here.
	if all, err = ReadGroups([]byte(pvsBookworm), []byte(lvsBookworm), parts[:1]); err != nil || all[0].Table != nil {
		t.Errorf("half of it: %+v %v", all, err)
	}
	for _, bad := range []string{"", "[]", `{"report":[{"seg":[{"vg_name":"a;reboot","lv_name":"x","segtype":"linear","seg_start":"0","seg_size":"1","devices":"/dev/vdb1(0)"}]}]}`,
		strings.Replace(lvsBookworm, `"81920"`, `"-1"`, 1)} {
		if all, err := ReadGroups([]byte(pvsBookworm), []byte(bad), parts); !errors.Is(err, ErrGroups) {
			t.Errorf("%.60q: %+v %v", bad, all, err)
		}
	}
	if c := LVMConfig(parts); !strings.Contains(c, `filter=["a|^/dev/vdb1$|","a|^/dev/vdb3$|","r|.*|"]`) {
		t.Error(c)
	}
}

// FuzzGroups: whatever a rescue instance answers, a table names its own partitions alone.
func FuzzGroups(f *testing.F) {
	f.Add([]byte(pvsBookworm), []byte(lvsBookworm))
	f.Fuzz(func(t *testing.T, pvs, lvs []byte) {
		all, err := ReadGroups(pvs, lvs, []string{"/dev/vdb1"})
		if err != nil && !errors.Is(err, ErrGroups) {
			t.Error(err)
		}
		for _, v := range all {
			for _, line := range v.Table {
				if w := strings.Fields(line); len(w) != 5 || w[2] != "linear" || w[3] != "/dev/vdb1" {
					t.Errorf("%q", line)
				}
			}
			if strings.ContainsAny(strings.Join(v.Names(), ""), " '\"$;\n") {
				t.Errorf("%q", v.Names())
			}
		}
	})
}
