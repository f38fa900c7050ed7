package reach

import (
	"io/fs"
	"path"
	"sync"
)

// Remember asks about each file once, for a look that changes nothing: the
// folders on the way to several files are the same, and a folder that was read
// told of its files.
func Remember(f Files) Files {
	r := &remembering{Files: f, known: map[string]*described{}, read: map[string]bool{}}
	if s, ok := f.(*sftpFiles); ok && s.home != nil {
		r.keep(".", *s.home)
	}
	return r
}

type remembering struct {
	Files
	mu    sync.Mutex
	known map[string]*described
	read  map[string]bool // folders that were read as a whole
}

type described struct {
	once sync.Once
	fi   FileInfo
	err  error
}

func (r *remembering) keep(name string, fi FileInfo) {
	d := &described{fi: fi}
	d.once.Do(func() {})
	r.known[name] = d
}

// ReadDir reads a folder, and remembers what it holds.
func (r *remembering) ReadDir(name string, limit int) ([]string, map[string]FileInfo, error) {
	names, infos, err := r.Files.ReadDir(name, limit)
	if err == nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		for n, fi := range infos {
			r.keep(path.Join(name, n), fi)
		}
		r.read[path.Clean(name)] = true
	}
	return names, infos, err
}

// Lstat describes a file as it was when it was first heard of.
func (r *remembering) Lstat(name string) (FileInfo, error) {
	name = path.Clean(name)
	r.mu.Lock()
	d := r.known[name]
	if d == nil && name != "." && r.read[path.Dir(name)] {
		r.mu.Unlock()
		return FileInfo{}, fs.ErrNotExist
	}
	if d == nil {
		d = &described{}
		r.known[name] = d
	}
	r.mu.Unlock()
	d.once.Do(func() { d.fi, d.err = r.Files.Lstat(name) })
	return d.fi, d.err
}
