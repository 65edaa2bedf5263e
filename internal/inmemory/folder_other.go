//go:build !linux

package inmemory

func folder() string { return "" }
