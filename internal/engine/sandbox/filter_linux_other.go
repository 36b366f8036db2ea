//go:build linux && !amd64 && !arm64

package sandbox

// Without a table every call would be refused.
var tables []table
