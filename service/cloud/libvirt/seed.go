package libvirt

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/diskfs/go-diskfs"
	diskpkg "github.com/diskfs/go-diskfs/disk"
	"github.com/diskfs/go-diskfs/filesystem"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
)

// seed makes the small volume from which cloud-init reads what a machine is told (its "NoCloud" data source): a file system
// of the kind ISO 9660 with the label "cidata", and in it meta-data and user-data. The instance-id is the instance's ID, for
// its whole life: by another one cloud-init would take the machine for a new one, and make new host keys.
func (l *link) seed(id, name, userData string) error {
	image, err := seedImage(id, name, userData)
	if err != nil {
		return err
	}
	if len(image) > seedSize {
		return fmt.Errorf("a seed of %d bytes is too large", len(image))
	}
	image = append(image, make([]byte, seedSize-len(image))...)
	xml := fmt.Sprintf("<volume><name>%s</name><capacity>%d</capacity><target><format type='raw'/></target></volume>", seedName(id), seedSize)
	if _, err := l.makeVolume(seedName(id), xml); err != nil {
		return err
	}
	return l.fill(seedName(id), image)
}

// seedSize is how large every seed is, in bytes: another text is written into the same volume, which a machine that runs has open.
const seedSize = 1 << 20

func seedImage(id, name, userData string) (image []byte, err error) {
	dir, err := os.MkdirTemp("", "plumlatch-seed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "seed.iso")
	d, err := diskfs.Create(file, 1<<20, diskfs.SectorSizeDefault)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	d.LogicalBlocksize = 2048
	fs, err := d.CreateFilesystem(diskpkg.FilesystemSpec{FSType: filesystem.TypeISO9660, VolumeLabel: "cidata"})
	if err != nil {
		return nil, err
	}
	for name, text := range map[string]string{"meta-data": fmt.Sprintf("instance-id: %s\nlocal-hostname: %s\n", id, name), "user-data": userData} {
		f, err := fs.OpenFile(name, os.O_CREATE|os.O_RDWR)
		if err != nil {
			return nil, err
		}
		if _, err := f.Write([]byte(text)); err != nil {
			return nil, err
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	}
	iso, ok := fs.(*iso9660.FileSystem)
	if !ok {
		return nil, errors.New("the seed is no ISO 9660 file system")
	}
	if err := iso.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: "cidata"}); err != nil {
		return nil, err
	}
	return os.ReadFile(file)
}
