// Package answers answers system calls of a command in place of the kernel: what the time is, what random numbers there are, what the
// kernel is called, in what order a folder is listed. It writes into the memory of a process that is stopped in such a call, and of one
// that is about to begin, from which it takes what the kernel lends for telling the time without a call.
//
// It hears of calls from whoever observes a command, and decides nothing about paths, views or reuse. What it cannot answer as it is asked
// to is an error that ends the command: a result that depends on what was to be hidden is worse than none. Linux only.
package answers
