# The demo's programs for linux/amd64: one write, one exit, no library.
	.globl _start
	.text
_start:
	mov $1, %eax
	mov $1, %edi
	lea message(%rip), %rsi
	mov $length, %edx
	syscall
	mov $60, %eax
	xor %edi, %edi
	syscall
message:
	.include "message.inc"
	.set length, . - message
