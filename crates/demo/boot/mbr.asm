; Boot code of the first block for the demo's media written to a disk: loads the BIOS boot image whose block
; address stands at byte 432, and starts it.
;
;   nasm -f bin -o mbr.bin mbr.asm

        bits 16
        org 0x600

IMAGE_BLOCKS equ 8              ; 4 KiB

start:
        cli
        xor ax, ax
        mov ds, ax
        mov es, ax
        mov ss, ax
        mov sp, 0x7C00
        sti
        cld
        mov si, 0x7C00          ; out of the way of the image
        mov di, 0x600
        mov cx, 256
        rep movsw
        jmp 0:main

main:
        mov si, packet
        mov ah, 0x42
        int 0x13
        jc failed
        jmp 0:0x7C00            ; DL still holds the drive

failed:
        mov si, text
.next:
        lodsb
        test al, al
        jz .halt
        mov ah, 0x0E
        mov bx, 7
        int 0x10
        jmp .next
.halt:
        hlt
        jmp .halt

text:   db 'The boot image cannot be read from this disk.', 13, 10, 0

        times 424 - ($ - $$) db 0
packet:                         ; ends with the address at byte 432
        db 16, 0
        dw IMAGE_BLOCKS
        dw 0x7C00, 0
        dq 0
