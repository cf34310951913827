; Quay OS 7 for UEFI: a PE32+ application made by hand, for x64.
;
; Says one line on the screen and on the first serial port, with the answer file if a file system that the firmware
; reads has one in its root, and halts. Position-independent, so it needs no relocations.
;
;   nasm -f bin -o uefi.bin uefi.asm

        bits 64
        default rel
        org 0

CODE_RVA  equ 0x1000
DATA_RVA  equ 0x2000
CODE_FILE equ 0x200
DATA_FILE equ 0x600
SERIAL    equ 0x3F8

; Offsets in the UEFI tables (UEFI specification 4.3, 4.4, 12.4, 13.4, 13.5).
SYSTEM_CON_OUT        equ 64
SYSTEM_BOOT_SERVICES  equ 96
OUTPUT_STRING         equ 8
CLEAR_SCREEN          equ 48
HANDLE_PROTOCOL       equ 152
SET_WATCHDOG_TIMER    equ 256
LOCATE_HANDLE_BUFFER  equ 312
OPEN_VOLUME           equ 8
FILE_OPEN             equ 8

dos_header:
        db 'MZ'
        times 0x3C - ($ - $$) db 0
        dd pe_header

pe_header:
        db 'PE', 0, 0
        dw 0x8664               ; x64
        dw 2                    ; sections
        dd 0, 0, 0              ; no time, no symbols
        dw optional_end - optional
        dw 0x0022               ; executable, large addresses
optional:
        dw 0x020B               ; PE32+
        db 1, 0
        dd DATA_FILE - CODE_FILE
        dd 0x200
        dd 0
        dd CODE_RVA             ; entry
        dd CODE_RVA
        dq 0                    ; image base
        dd 0x1000               ; alignment in memory
        dd 0x200                ; alignment in the file
        dw 0, 0, 0, 0, 0, 0
        dd 0
        dd 0x3000               ; size of the image
        dd CODE_FILE            ; size of the headers
        dd 0
        dw 10                   ; UEFI application
        dw 0x0100               ; may run without execution from data
        dq 0x10000, 0x10000, 0, 0
        dd 0
        dd 16
        times 16 dq 0           ; no directories
optional_end:
        db '.text', 0, 0, 0
        dd DATA_FILE - CODE_FILE, CODE_RVA, DATA_FILE - CODE_FILE, CODE_FILE
        dd 0, 0
        dd 0
        dd 0x60000020           ; code, execute, read
        db '.data', 0, 0, 0
        dd 0x400, DATA_RVA, 0x400, DATA_FILE
        dd 0, 0
        dd 0
        dd 0xC0000040           ; data, read, write

        times CODE_FILE - ($ - $$) db 0

entry:
        push rbx
        push rsi
        push rdi
        push r12
        push r13
        push r14
        push r15
        sub rsp, 0x50           ; room for arguments; keeps the stack aligned to 16
        mov r12, rdx            ; system table
        mov r13, [rdx + SYSTEM_BOOT_SERVICES]

        ; The data section lies 0x1000 bytes behind the code in memory.
        lea r15, [entry]
        add r15, DATA_RVA - CODE_RVA

        xor ecx, ecx            ; no watchdog: this halts on purpose
        xor edx, edx
        xor r8d, r8d
        xor r9d, r9d
        call [r13 + SET_WATCHDOG_TIMER]

        mov rcx, [r12 + SYSTEM_CON_OUT]
        call [rcx + CLEAR_SCREEN]
        call serial_init
        lea rsi, [r15 + text_start - DATA_FILE]
        call print_on_console
        call find_answer_file
        lea rbx, [r15 + text_found - DATA_FILE]
        test eax, eax
        jnz .say
        lea rbx, [r15 + text_none - DATA_FILE]
.say:
        mov rsi, rbx
        call print_on_console
        ; Firmware may show its console on the serial port too; the whole line comes a second time then.
        lea rsi, [r15 + text_start - DATA_FILE]
        call print_on_serial
        mov rsi, rbx
        call print_on_serial
.halt:
        hlt
        jmp .halt

; EAX = 1 if any file system has the answer file in its root.
find_answer_file:
        sub rsp, 0x48
        mov ecx, 2              ; by protocol
        lea rdx, [r15 + file_system_guid - DATA_FILE]
        xor r8d, r8d
        lea r9, [r15 + handle_count - DATA_FILE]
        lea rax, [r15 + handles - DATA_FILE]
        mov [rsp + 0x20], rax
        call [r13 + LOCATE_HANDLE_BUFFER]
        test rax, rax
        jnz .none
        xor r14d, r14d
.next:
        cmp r14, [r15 + handle_count - DATA_FILE]
        jae .none
        mov rax, [r15 + handles - DATA_FILE]
        mov rcx, [rax + r14 * 8]
        inc r14
        lea rdx, [r15 + file_system_guid - DATA_FILE]
        lea r8, [r15 + interface - DATA_FILE]
        call [r13 + HANDLE_PROTOCOL]
        test rax, rax
        jnz .next
        mov rcx, [r15 + interface - DATA_FILE]
        lea rdx, [r15 + root - DATA_FILE]
        call [rcx + OPEN_VOLUME]
        test rax, rax
        jnz .next
        mov rcx, [r15 + root - DATA_FILE]
        lea rdx, [r15 + file - DATA_FILE]
        lea r8, [r15 + wanted - DATA_FILE]
        mov r9d, 1              ; read
        mov qword [rsp + 0x20], 0
        call [rcx + FILE_OPEN]
        test rax, rax
        jnz .next
        mov eax, 1
        add rsp, 0x48
        ret
.none:
        xor eax, eax
        add rsp, 0x48
        ret

; Prints the text of 16-bit units at RSI on the console.
print_on_console:
        sub rsp, 0x28
        mov rcx, [r12 + SYSTEM_CON_OUT]
        mov rdx, rsi
        call [rcx + OUTPUT_STRING]
        add rsp, 0x28
        ret

; Prints the text of 16-bit units at RSI on the serial port.
print_on_serial:
.next:
        lodsw
        test ax, ax
        jz .done
        mov dil, al
        mov dx, SERIAL + 5
        mov ecx, 0x100000
.wait:
        in al, dx
        test al, 0x20
        jnz .ready
        loop .wait
.ready:
        mov al, dil
        mov dx, SERIAL
        out dx, al
        jmp .next
.done:
        ret

serial_init:
        mov dx, SERIAL + 3
        mov al, 0x80
        out dx, al
        mov dx, SERIAL
        mov al, 1
        out dx, al
        inc dx
        xor al, al
        out dx, al
        mov dx, SERIAL + 3
        mov al, 3
        out dx, al
        ret

        times DATA_FILE - ($ - $$) db 0

file_system_guid:               ; 964E5B22-6459-11D2-8E39-00A0C969723B
        dd 0x964E5B22
        dw 0x6459, 0x11D2
        db 0x8E, 0x39, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B
handle_count: dq 0
handles:      dq 0
interface:    dq 0
root:         dq 0
file:         dq 0
wanted:       dw __utf16__('\autounattend.xml'), 0
text_start:   dw __utf16__('Quay OS 7 setup: started by UEFI'), 0
text_found:   dw __utf16__(', answer file autounattend.xml'), 13, 10, 0
text_none:    dw __utf16__(', no answer file in sight'), 13, 10, 0

        times DATA_FILE + 0x400 - ($ - $$) db 0
