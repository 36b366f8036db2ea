//go:build !unix

package machine

func kernel() string { return "" }
