package main

import (
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

// What the owner alone may do with a private file, in words.
const (
	aloneNote = "for you alone"
	aloneWord = "you alone, and nothing inherited"
	madeAlone = "You alone may read it now, and it inherits nothing."
)

// readers are the rights by which somebody gets at a file's content or at its access list.
const readers = windows.FILE_READ_DATA | windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.WRITE_DAC |
	windows.WRITE_OWNER | windows.GENERIC_READ | windows.GENERIC_WRITE | windows.GENERIC_ALL

// me is the account that this program runs as.
func me() (*windows.SID, error) {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return nil, err
	}
	return user.User.Sid, nil
}

// othersRead says how others than the owner can read or change a private file; "" if they cannot.
// Windows protects a file by its access list, not by a mode. The system itself and the administrators
// get at every file, and OpenSSH for Windows lets them stand in the list.
func othersRead(file string, _ fs.FileInfo) (how string, err error) {
	sd, err := windows.GetNamedSecurityInfo(file, windows.SE_FILE_OBJECT,
		windows.OWNER_SECURITY_INFORMATION|windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return "", err
	}
	own, err := me()
	if err != nil {
		return "", err
	}
	list, _, err := sd.DACL()
	if err != nil || list == nil { // no list: everybody may do everything
		return "no access list", nil
	}
	var others []string
	for n := range uint32(list.AceCount) {
		var ace *windows.ACCESS_ALLOWED_ACE
		if err := windows.GetAce(list, n, &ace); err != nil {
			return "", err
		}
		if ace.Header.AceType != windows.ACCESS_ALLOWED_ACE_TYPE || ace.Mask&readers == 0 {
			continue
		}
		who := (*windows.SID)(unsafe.Pointer(&ace.SidStart))
		if who.Equals(own) || who.IsWellKnown(windows.WinLocalSystemSid) ||
			who.IsWellKnown(windows.WinBuiltinAdministratorsSid) {
			continue
		}
		name := who.String()
		if account, domain, _, err := who.LookupAccount(""); err == nil {
			name = strings.TrimPrefix(domain+`\`+account, `\`)
		}
		if !slices.Contains(others, name) {
			others = append(others, name)
		}
	}
	if len(others) > 0 {
		return "its access list lets in " + strings.Join(others, ", "), nil
	}
	return "", nil
}

// setAlone lets the owner alone read and change a file, and has it inherit nothing.
func setAlone(file string) error { return setList(file, windows.NO_INHERITANCE) }

// makeFolder makes a folder for its owner alone, with those above it, unless it is there.
func makeFolder(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return setList(dir, windows.SUB_CONTAINERS_AND_OBJECTS_INHERIT)
}

// setList gives a file or folder an access list of its owner alone, that takes nothing from the folder
// above it. inheritance is what goes on to what is made in it.
func setList(file string, inheritance uint32) error {
	own, err := me()
	if err != nil {
		return err
	}
	list, err := windows.ACLFromEntries([]windows.EXPLICIT_ACCESS{{
		AccessPermissions: windows.GENERIC_ALL,
		AccessMode:        windows.GRANT_ACCESS,
		Inheritance:       inheritance,
		Trustee: windows.TRUSTEE{TrusteeForm: windows.TRUSTEE_IS_SID, TrusteeType: windows.TRUSTEE_IS_USER,
			TrusteeValue: windows.TrusteeValueFromSID(own)},
	}}, nil)
	if err != nil {
		return err
	}
	if err := windows.SetNamedSecurityInfo(file, windows.SE_FILE_OBJECT,
		windows.DACL_SECURITY_INFORMATION|windows.PROTECTED_DACL_SECURITY_INFORMATION, nil, nil, list, nil); err != nil {
		return fmt.Errorf("its access list could not be set: %w", err)
	}
	return nil
}

// aloneCommand is what does the same by hand.
func aloneCommand(file string) string {
	return `icacls "` + file + `" /inheritance:r /grant:r "%USERNAME%:F"`
}
