; Boot manager of Quay OS 7 for sticks: the boot record of the stick loads this file from the root and starts it at
; 2000:0000 with the drive in DL. The record itself is still at 0000:7C00, with the parameters of the file system.
;
; Adds up its own bytes before it changes any of them, so that it knows that all of it was loaded, says one line on the screen and on the first serial
; port, with the answer file if the root's first cluster names one, and halts.
;
;   nasm -f bin -o quayboot.bin quayboot.asm

        bits 16
        org 0

SERIAL    equ 0x3F8
BUFFER    equ 0x600             ; in segment 0: one block
RECORD    equ 0x7C00            ; in segment 0: the boot record
SHORT_LEN equ 7                 ; letters of a short name that are looked at

        jmp near start
drive:  db 0
length: dd end                  ; bytes of the file, which may be made longer
sum:    dd 0                    ; of all bytes behind this number; filled in by who makes the file
first:

start:
        cli
        mov ax, cs
        mov ds, ax
        mov ax, 0x1000          ; stack below this file
        mov ss, ax
        mov sp, 0xFFF0
        sti
        cld
        mov [drive], dl
        call serial_init
        mov si, text_start
        call print

        ; The sum, a paragraph at a time so that the file may be larger than a segment.
        mov ebx, [length]
        sub ebx, first
        xor edx, edx
        mov ax, cs
        mov es, ax
        mov di, first
.next:
        test ebx, ebx
        jz .done
        movzx eax, byte [es:di]
        add edx, eax
        dec ebx
        inc di
        cmp di, 0x1000
        jb .next
        mov ax, es
        add ax, 0x100
        mov es, ax
        sub di, 0x1000
        jmp .next
.done:
        mov si, text_damaged
        cmp edx, [sum]
        jne .last
        call find_answer_file
        mov si, text_found
        jnc .last
        mov si, text_none
.last:
        call print
.halt:
        hlt
        jmp .halt

; Carry clear if the first cluster of the root names the answer file.
find_answer_file:
        xor ax, ax
        mov fs, ax
        mov es, ax
        movzx eax, word [fs:RECORD + 14]
        add eax, [fs:RECORD + 28]
        movzx ecx, byte [fs:RECORD + 16]
.tables:
        add eax, [fs:RECORD + 36]
        loop .tables
        mov ebx, [fs:RECORD + 44]
        sub ebx, 2
        movzx ecx, byte [fs:RECORD + 13]
        imul ebx, ecx
        add eax, ebx
        mov [packet.block], eax
.block:
        push cx
        mov dl, [drive]
        mov si, packet
        mov ah, 0x42
        int 0x13
        pop cx
        jc .none
        mov bx, BUFFER
.entry:
        cmp byte [fs:bx], 0
        je .none
        test byte [fs:bx + 11], 0x18
        jnz .advance
        mov si, wanted
        mov di, bx
        push cx
        mov cx, SHORT_LEN
        repe cmpsb
        pop cx
        je .found
.advance:
        add bx, 32
        cmp bx, BUFFER + 512
        jb .entry
        inc dword [packet.block]
        loop .block
.none:
        stc
        ret
.found:
        clc
        ret

%include "say.inc"

wanted:       db 'AUTOUN~'
text_start:   db 'Quay OS 7 setup: started by BIOS from a stick', 0
text_found:   db ', answer file autounattend.xml', 13, 10, 0
text_none:    db ', no answer file', 13, 10, 0
text_damaged: db ', and not loaded whole', 13, 10, 0

        align 4
packet:                         ; disk address packet of INT 13h, function 42h
         db 16, 0
         dw 1
         dw BUFFER, 0
.block:  dq 0

        align 16
end:
