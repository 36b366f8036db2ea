// The demo's programs for linux/arm64: one write, one exit, no library.
	.globl _start
	.text
_start:
	mov x0, #1
	adr x1, message
	mov x2, #length
	mov x8, #64
	svc #0
	mov x0, #0
	mov x8, #93
	svc #0
message:
	.include "message.inc"
	.set length, . - message
