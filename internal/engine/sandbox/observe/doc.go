// Package observe notes what paths the processes of a command name to the kernel, by a filter that hands such calls over. It decides
// nothing about them: what a call came to is worked out later from what the view holds. Linux only.
package observe
