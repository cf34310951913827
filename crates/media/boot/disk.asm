; Boot code of a stick's first block: finds the partition that BIOS is to start, in an MBR (the active one) or in a GPT
; (the one whose attributes say so), and starts its boot record.
;
;   nasm -f bin -o disk.bin disk.asm

        bits 16
        org 0x600

LOADED    equ 0x7C00
RECORDS   equ 0x600 + 446
HEADER    equ 0x7C00            ; where blocks of the GPT are read to

start:
        cli
        xor ax, ax
        mov ds, ax
        mov es, ax
        mov ss, ax
        mov sp, LOADED
        sti
        cld
        mov si, LOADED          ; out of the way of the boot record
        mov di, 0x600
        mov cx, 256
        rep movsw
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

        mov si, RECORDS
        mov cx, 4
.record:
        test byte [si], 0x80
        jnz .active
        add si, 16
        loop .record
        jmp table

.active:
        mov eax, [si + 8]
        mov [packet.block], eax
        jmp boot

; GUID partition table (UEFI specification 5.3).
table:
        mov byte [packet.block], 1
        call read
        mov si, text_none
        cmp dword [HEADER], 'EFI '
        jne failed
        cmp dword [HEADER + 4], 'PART'
        jne failed
        mov eax, [HEADER + 72]  ; first block of the entries
        mov [entries], eax
        mov ecx, [HEADER + 80]  ; number of entries
        mov ebp, [HEADER + 84]  ; bytes of an entry
        xor edi, edi            ; bytes from the first entry
.entry:
        jecxz failed
        mov eax, edi
        shr eax, 9
        add eax, [entries]
        mov [packet.block], eax
        call read
        mov bx, di
        and bx, 511
        add bx, HEADER
        mov eax, [bx]
        or eax, [bx + 4]        ; used at all?
        jz .next
        test byte [bx + 48], 4  ; bit 2: BIOS is to start it
        jnz .found
.next:
        add edi, ebp
        dec ecx
        jmp .entry
.found:
        mov eax, [bx + 32]
        mov [packet.block], eax
        mov eax, [bx + 36]
        mov [packet.block + 4], eax

boot:
        push si
        call read
        pop si
        cmp word [LOADED + 510], 0xAA55
        jne .bad
        mov dl, [drive]
        jmp 0:LOADED
.bad:
        mov si, text_record
        jmp failed

; Reads the block that the packet names; does not come back on failure.
read:
        push ecx
        mov dl, [drive]
        mov si, packet
        mov ah, 0x42
        int 0x13
        pop ecx
        mov si, text_read
        jc failed
        mov si, text_none
        ret

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
text_none:       db 'no partition to start', 0
text_read:       db 'cannot be read', 0
text_record:     db 'no boot record', 0
text_key:        db '. Press a key.', 13, 10, 0

drive:   db 0
entries: dd 0
packet:                         ; disk address packet of INT 13h, function 42h
         db 16, 0
         dw 1
         dw LOADED, 0
.block:  dq 0

        times 440 - ($ - $$) db 0
