; Boot record of a stick's FAT32 file system: loads the boot manager, a file in the root, and starts it.
;
; The first 512 bytes are block 0 of the file system (its parameters are filled in by who writes it), the others blocks
; 12 to 15, among the reserved ones. The file may be fragmented and as large as the memory below 640 KiB has room for.
; It is started as firmware would: DL is the drive, everything else is free to use; this record stays at 0000:7C00.
;
;   nasm -f bin -o record.bin record.asm

        bits 16
        org 0x7C00

SECOND_AT  equ 12               ; block of the second part
FAT        equ 0x8A00           ; a block of the table
DIRECTORY  equ 0x8C00           ; a block of the root

        jmp short start
        nop
        db 'NEATSTK '
per_sector:      dw 0           ; FAT specification 3.1, 3.3
per_cluster:     db 0
reserved:        dw 0
fats:            db 0
        times 11 db 0
hidden:          dd 0
        dd 0
fat_len:         dd 0
        dw 0, 0
root:            dd 0
        times 90 - ($ - $$) db 0

start:
        cli
        xor ax, ax
        mov ds, ax
        mov es, ax
        mov ss, ax
        mov sp, 0x7C00
        sti
        cld
        jmp 0:main

main:
        mov [drive], dl
        mov ah, 0x41            ; are there the extensions that read by block number?
        mov bx, 0x55AA
        int 0x13
        mov si, text_extensions
        jc failed
        cmp bx, 0xAA55
        jne failed
        test cl, 1
        jz failed
        mov eax, [hidden]
        add eax, SECOND_AT
        mov [packet.block], eax
        mov word [packet.count], 4
        mov dword [packet.to], second
        call read
        mov si, text_damaged
        cmp dword [second], 'NSTK'
        jne failed
        jmp begin

; Reads what the packet says; does not come back on failure. Only SI, AX and DL are lost.
read:
        mov dl, [drive]
        mov si, packet
        mov ah, 0x42
        int 0x13
        mov si, text_read
        jc failed
        ret

; Says the text at SI and waits.
failed:
        push si
        mov si, text_who
        call print
        pop si
        call print
        mov si, text_key
        call print
        xor ax, ax
        int 0x16
        int 0x18                ; the next boot device
        jmp $

print:
        lodsb
        test al, al
        jz .done
        mov ah, 0x0E
        mov bx, 7
        int 0x10
        jmp print
.done:
        ret

text_who:        db 13, 10, 'This stick: ', 0
text_extensions: db 'firmware has no LBA', 0
text_read:       db 'cannot be read', 0
text_damaged:    db 'file system damaged', 0
text_key:        db '. Press a key for the next disk.', 13, 10, 0

        align 4
drive:           db 0, 0, 0, 0
packet:                         ; disk address packet of INT 13h, function 42h
                 db 16, 0
.count:          dw 1
.to:             dd 0
.block:          dq 0

        times 510 - ($ - $$) db 0
        db 0x55, 0xAA

second: db 'NSTK'
load_at: dw 0x2000              ; where the boot manager is loaded and started
name:    db 'BOOTMGR    '       ; as its directory entry has it
text_name: times 16 db 0        ; as people read it

begin:
        movzx eax, word [reserved]
        add eax, [hidden]
        mov [fat_start], eax
        movzx ecx, byte [fats]
        mov eax, [fat_len]
        mul ecx
        add eax, [fat_start]
        mov [data_start], eax

        ; The root directory, block by block.
        mov eax, [root]
        mov word [chain_left], 0x4000
.cluster:
        mov [cluster], eax
        call to_block
        mov [packet.block], eax
        movzx cx, byte [per_cluster]
.block:
        mov word [packet.count], 1
        mov dword [packet.to], DIRECTORY
        call read
        mov bx, DIRECTORY
.entry:
        cmp byte [bx], 0        ; the end of the directory
        je missing
        test byte [bx + 11], 0x18 ; a label, a piece of a long name, a folder
        jnz .next
        push cx
        mov si, bx
        mov di, name
        mov cx, 11
        repe cmpsb
        pop cx
        je found
.next:
        add bx, 32
        cmp bx, DIRECTORY + 512
        jb .entry
        inc dword [packet.block]
        loop .block
        call next_cluster
        jnc .cluster

missing:
        mov si, text_missing
        jmp with_name

found:
        mov ax, [bx + 20]
        shl eax, 16
        mov ax, [bx + 26]
        mov [cluster], eax
        mov eax, [bx + 28]
        test eax, eax
        mov si, text_empty
        jz with_name
        add eax, 511
        shr eax, 9
        mov [blocks_left], eax

        ; Is there room up to the end of the memory that BIOS has?
        int 0x12                ; KiB in AX
        movzx eax, ax
        shl eax, 1              ; in blocks
        movzx ecx, word [load_at]
        shr ecx, 5
        sub eax, ecx
        mov si, text_large
        jbe with_name
        cmp [blocks_left], eax
        ja with_name

        mov ax, [load_at]
        mov [packet.to + 2], ax
        mov word [packet.to], 0
        mov word [chain_left], 0xFFFF
.cluster:
        mov eax, [cluster]
        call to_block
        mov [packet.block], eax
        movzx eax, byte [per_cluster]
        cmp eax, [blocks_left]
        jbe .whole
        mov eax, [blocks_left]
.whole:
        mov [packet.count], ax
        sub [blocks_left], eax
        push ax
        call read
        pop ax
        shl ax, 5               ; blocks to paragraphs
        add [packet.to + 2], ax
        cmp dword [blocks_left], 0
        je run
        call next_cluster
        jnc .cluster
damaged:
        mov si, text_damaged
        jmp failed

run:
        mov dl, [drive]
        push word [load_at]
        push word 0
        retf

; First block of the cluster in EAX.
to_block:
        cmp eax, 2
        jb damaged
        sub eax, 2
        movzx edx, byte [per_cluster]
        mul edx
        add eax, [data_start]
        ret

; Goes on to the next cluster of the chain, also in EAX; carry at the end of it. A chain has an end here.
next_cluster:
        dec word [chain_left]
        jz damaged
        mov eax, [cluster]
        shr eax, 7
        add eax, [fat_start]
        cmp eax, [fat_block]
        je .there
        mov [fat_block], eax
        push dword [packet.to]
        push dword [packet.block]
        mov [packet.block], eax
        mov word [packet.count], 1
        mov dword [packet.to], FAT
        call read
        pop dword [packet.block]
        pop dword [packet.to]
.there:
        mov bx, [cluster]
        and bx, 127
        shl bx, 2
        mov eax, [FAT + bx]
        and eax, 0x0FFFFFFF
        mov [cluster], eax
        cmp eax, 0x0FFFFFF7
        cmc
        ret

; Says the name of the boot manager and the text at SI.
with_name:
        push si
        mov si, text_who
        call print
        mov si, text_name
        call print
        pop si
        call print
        mov si, text_key
        call print
        xor ax, ax
        int 0x16
        int 0x18
        jmp $

text_missing: db ' is not in its root folder', 0
text_empty:   db ' is empty', 0
text_large:   db ' is too large for the memory below 640 KiB', 0

        align 4
cluster:     dd 0
fat_start:   dd 0
fat_block:   dd 0
data_start:  dd 0
blocks_left: dd 0
chain_left:  dw 0

        times 512 * 5 - ($ - $$) db 0
