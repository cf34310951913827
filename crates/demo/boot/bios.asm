; Boot image of Quay OS 7 for BIOS: El Torito without emulation, 4 KiB.
;
; Says one line on the screen and on the first serial port, with the answer file it finds in the root of the
; ISO 9660 tree, and halts. Started from a disc (sectors of 2,048 bytes) or, by mbr.asm, from a disk (512).
;
;   nasm -f bin -o bios.bin bios.asm

        bits 16
        org 0x7C00

BUFFER      equ 0x9000          ; one sector of 2,048 bytes
SERIAL      equ 0x3F8
ROOT_RECORD equ 156             ; directory record of the root in the volume descriptor (ECMA-119 8.4.18)
MAX_SECTORS equ 64              ; of the root directory that are searched

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

        ; Bytes in a sector of the drive that we came from.
        mov ah, 0x48
        mov dl, [drive]
        mov si, parameters
        int 0x13
        jc .sectors_known       ; 2,048 unless the drive says otherwise
        cmp word [parameters + 24], 512
        jne .sectors_known
        mov byte [per_sector], 4
.sectors_known:
        mov si, text_start
        call print
        mov si, text_disc
        cmp byte [per_sector], 1
        je .place_known
        mov si, text_disk
.place_known:
        call print

        mov eax, 16             ; primary volume descriptor
        call read_sector
        jc .none
        cmp dword [BUFFER + 1], 'CD00'
        jne .none
        mov eax, [BUFFER + ROOT_RECORD + 2]
        mov [next_sector], eax
        mov ecx, [BUFFER + ROOT_RECORD + 10]
        add ecx, 2047
        shr ecx, 11
        cmp ecx, MAX_SECTORS
        jbe .next
        mov ecx, MAX_SECTORS
.next:
        jecxz .none
        push ecx
        mov eax, [next_sector]
        call read_sector
        pop ecx
        jc .none
        inc dword [next_sector]
        dec ecx
        mov bx, BUFFER
.record:
        movzx ax, byte [bx]     ; length of the record; 0 ends the sector
        test ax, ax
        jz .next
        cmp byte [bx + 32], wanted_end - wanted
        jne .advance
        push cx
        lea si, [bx + 33]
        mov di, wanted
        mov cx, wanted_end - wanted
        repe cmpsb
        pop cx
        je .found
.advance:
        add bx, ax
        cmp bx, BUFFER + 2048 - 33
        jb .record
        jmp .next
.found:
        mov si, text_found
        jmp .last
.none:
        mov si, text_none
.last:
        call print
.halt:
        hlt
        jmp .halt

; Reads sector EAX of 2,048 bytes into BUFFER; carry set on failure.
read_sector:
        movzx ebx, byte [per_sector]
        mul ebx
        mov [packet.lba], eax
        mov [packet.lba + 4], edx
        mov [packet.count], bx
        mov dl, [drive]
        mov si, packet
        mov ah, 0x42
        int 0x13
        ret

%include "say.inc"

wanted:     db 'AUTOUNATTEND.XML;1'
wanted_end:
text_start: db 'Quay OS 7 setup: started by BIOS from a ', 0
text_disc:  db 'disc', 0
text_disk:  db 'disk', 0
text_found: db ', answer file autounattend.xml', 13, 10, 0
text_none:  db ', no answer file', 13, 10, 0

drive:       db 0
per_sector:  db 1
        align 4
next_sector: dd 0
packet:                         ; disk address packet of INT 13h, function 42h
            db 16, 0
.count:     dw 0
            dw BUFFER, 0
.lba:       dq 0
parameters:                     ; result of INT 13h, function 48h
            dw 30
            times 28 db 0

        times 4096 - ($ - $$) db 0
