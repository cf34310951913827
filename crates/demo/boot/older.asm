; Boot image of Quay OS 2 for BIOS: El Torito without emulation, 2 KiB (four blocks of 512 bytes).
;
; Says one line on the screen and on the first serial port, whether the folder I386 is in the root of the ISO 9660 tree, and
; halts, where a loader would read its program from that folder.
;
;   nasm -f bin -o older.bin older.asm

        bits 16
        org 0x7C00

BUFFER      equ 0x9000          ; one sector of 2,048 bytes
SERIAL      equ 0x3F8
ROOT_RECORD equ 156             ; directory record of the root in the volume descriptor (ECMA-119 8.4.18)

start:
        cli
        xor ax, ax
        mov ds, ax
        mov es, ax
        mov ss, ax
        mov sp, 0x7C00
        sti
        cld
        jmp 0:main              ; firmware may come with 07C0:0000

main:
        mov [drive], dl
        mov ax, 0x0003          ; 80 columns of text, cleared
        int 0x10
        call serial_init
        mov si, text_start
        call print
        mov eax, 16             ; primary volume descriptor
        call read_sector
        jc .none
        mov eax, [BUFFER + ROOT_RECORD + 2]
        call read_sector        ; the first sector of the root: there are few names
        jc .none
        mov si, BUFFER
.record:
        movzx bx, byte [si]     ; length of the record, 0 behind the last
        test bl, bl
        jz .none
        cmp si, BUFFER + 2048 - 40
        ja .none
        cmp byte [si + 32], 4   ; length of the name
        jne .next
        cmp dword [si + 33], 'I386'
        je .found
.next:
        add si, bx
        jmp .record
.found:
        mov si, text_found
        call print
        jmp .halt
.none:
        mov si, text_none
        call print
.halt:
        hlt
        jmp .halt

; Reads sector EAX of 2,048 bytes into BUFFER; carry set on failure.
read_sector:
        mov [packet.lba], eax
        mov dl, [drive]
        mov si, packet
        mov ah, 0x42
        int 0x13
        ret

%include "say.inc"

text_start: db 'Quay OS 2 setup: started by BIOS from a disc', 0
text_found: db ', text phase in I386', 13, 10, 0
text_none:  db ', no folder I386', 13, 10, 0

drive:       db 0
        align 4
packet:                         ; disk address packet of INT 13h, function 42h
            db 16, 0
            dw 1
            dw BUFFER, 0
.lba:       dq 0

        times 2048 - ($ - $$) db 0
