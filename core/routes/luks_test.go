package routes

import (
	"slices"
	"testing"
)

// lsblkOpened is what util-linux 2.38 prints of a rescue machine with an opened partition, in which a volume group lies.
const lsblkOpened = `{"blockdevices": [
 {"name":"vda","type":"disk","size":3221225472,"fstype":null,"uuid":null,"label":null,"serial":null,"mountpoint":null,"children":[
  {"name":"vda1","type":"part","size":1,"fstype":"crypto_LUKS","uuid":"c","label":null,"serial":null,"mountpoint":null,"children":[
   {"name":"deck-shut","type":"crypt","size":1,"fstype":"LVM2_member","uuid":"d","label":null,"serial":null,"mountpoint":null}]}]},
 {"name":"vdb","type":"disk","size":3221225472,"fstype":null,"uuid":null,"label":null,"serial":"v","mountpoint":null,"children":[
  {"name":"vdb1","type":"part","size":1,"fstype":"crypto_LUKS","uuid":"c","label":null,"serial":null,"mountpoint":null,"children":[
   {"name":"plumlatch-12345678-luks-1","type":"crypt","size":1,"fstype":"LVM2_member","uuid":"d","label":null,"serial":null,"mountpoint":null,"children":[
    {"name":"deck--lines-root","type":"lvm","size":1,"fstype":"ext4","uuid":"e","label":null,"serial":null,"mountpoint":null}]}]},
  {"name":"vdb2","type":"part","size":1,"fstype":"ext4","uuid":"f","label":null,"serial":null,"mountpoint":null}]}]}`

func TestEncrypted(t *testing.T) {
	all, err := ReadDisks([]byte(lsblkOpened))
	if err != nil {
		t.Fatal(err)
	}
	disk := all[1]
	parts := Encrypted(disk)
	if len(parts) != 1 || parts[0].Path() != "/dev/vdb1" {
		t.Errorf("the encrypted parts are %+v", parts)
	}
	if whole := Encrypted(BlockDevice{Name: "vdb", FSType: "crypto_LUKS"}); len(whole) != 1 || whole[0].Name != "vdb" {
		t.Errorf("a disk that is encrypted as a whole: %+v", whole)
	}
	if none := Encrypted(BlockDevice{Name: "vdb", FSType: "ext4"}); none != nil {
		t.Errorf("one that is not: %+v", none)
	}
	for _, c := range []struct {
		part, mapping string
		want          bool
	}{{"vdb1", "plumlatch-12345678-luks-1", true}, {"vdb1", "plumlatch-12345678-luks-2", false}, {"vdb2", "plumlatch-12345678-luks-1", false},
		{"vda1", "plumlatch-12345678-luks-1", false}, // another disk's, with the same UUIDs
		{"vda1", "deck-shut", true}, {"vdb1", "deck--lines-root", false}, {"vdc1", "plumlatch-12345678-luks-1", false}} {
		if is := IsOpened(all, c.part, c.mapping); is != c.want {
			t.Errorf("%s is open as %s: %t", c.part, c.mapping, is)
		}
	}
	// What is called so and is no opened partition is none.
	all[1].Children[0].Children[0].Type = "lvm"
	if IsOpened(all, "vdb1", "plumlatch-12345678-luks-1") {
		t.Error("a mapping of another kind is taken for it")
	}

	opened := BlockDevice{Name: "mapper/x", Type: "crypt", FSType: "ext4"}
	with := WithOpened(disk, map[string]BlockDevice{"vdb1": opened})
	if got := Names(with.Children); !slices.Equal(got, []string{"mapper/x", "vdb2"}) || disk.Children[0].Name != "vdb1" {
		t.Errorf("with what was opened: %v; and what was given has %s", got, disk.Children[0].Name)
	}
	parts, not := Candidates(with)
	if len(parts) != 2 || len(not) != 0 || parts[0].Path() != "/dev/mapper/x" {
		t.Errorf("candidates %+v, not %v", parts, not)
	}
	if with = WithOpened(BlockDevice{Name: "vdb", FSType: "crypto_LUKS"}, map[string]BlockDevice{"vdb": opened}); len(with.Children) != 1 || len(Encrypted(with)) != 0 {
		t.Errorf("a whole disk: %+v", with)
	}
}
