package main

import "golang.org/x/sys/windows"

// hush has a console show nothing of what is typed (ENABLE_ECHO_INPUT) until again is called.
func hush(fd int) (again func(), err error) {
	console, before := windows.Handle(fd), uint32(0)
	if err := windows.GetConsoleMode(console, &before); err != nil {
		return nil, err
	}
	if err := windows.SetConsoleMode(console, before&^windows.ENABLE_ECHO_INPUT); err != nil {
		return nil, err
	}
	return func() { _ = windows.SetConsoleMode(console, before) }, nil
}
