// Boot code for the first sector of a disk, ours: it starts the volume of the active entry, as
// firmware and loaders of this kind of table agree on it.
//
//   firmware loads the sector to 0000:7C00 with the drive's number in DL, and jumps there
//   this moves itself to 0000:0600, finds the one entry whose flag is 80, loads that volume's first
//   sector to 0000:7C00 (by LBA where the firmware can, else by CHS), looks for 55 AA at its end,
//   and jumps there: DL the drive, DS:SI the entry
//
// At most 440 bytes: the disk's id and the table follow. Lies in the library as data, never run.
        .section .rodata
        .globl  lantern_mbr_code
        .globl  lantern_mbr_code_end
        .code16
        .set    ORIGIN, 0x600
        .set    LOADED, 0x7C00
        .set    TABLE, ORIGIN + 446

lantern_mbr_code:
start:
        cli
        xorw    %ax, %ax
        movw    %ax, %ss
        movw    $LOADED, %sp
        movw    %ax, %ds
        movw    %ax, %es
        sti
        cld
        movw    $LOADED, %si
        movw    $ORIGIN, %di
        movw    $256, %cx
        rep     movsw
        ljmp    $0, $(moved - start + ORIGIN)

moved:
        // One entry is active, and only one.
        movw    $TABLE, %bx
        movw    $4, %cx
        xorw    %si, %si
next_entry:
        cmpb    $0x80, (%bx)
        jne     not_active
        testw   %si, %si
        jnz     no_entry
        movw    %bx, %si
not_active:
        addw    $16, %bx
        loop    next_entry
        testw   %si, %si
        jz      no_entry

        // Firmware that can read by LBA says so.
        movw    $5, %di                 // tries
try_read:
        pushw   %di
        pushw   %si
        pushw   %dx
        movb    $0x41, %ah
        movw    $0x55AA, %bx
        int     $0x13
        popw    %dx
        popw    %si
        jc      by_chs
        cmpw    $0xAA55, %bx
        jne     by_chs
        testb   $1, %cl
        jz      by_chs
        // The packet: 16 bytes, one sector, to 0000:7C00, from the entry's start.
        movw    %sp, %bp
        pushw   $0
        pushw   $0
        pushw   10(%si)
        pushw   8(%si)
        pushw   $0
        pushw   $LOADED
        pushw   $1
        pushw   $16
        movw    %si, %di
        movw    %sp, %si
        movb    $0x42, %ah
        int     $0x13
        movw    %di, %si
        movw    %bp, %sp                // the packet goes; the carry stays
        jmp     was_read
by_chs:
        movw    $0x0201, %ax
        movw    $LOADED, %bx
        movw    2(%si), %cx
        movb    1(%si), %dh
        int     $0x13
was_read:
        popw    %di
        jnc     loaded
        pushw   %dx
        xorw    %ax, %ax                // the drive is reset before it is tried again
        int     $0x13
        popw    %dx
        decw    %di
        jnz     try_read
        movw    $(text_read - start + ORIGIN), %si
        jmp     say

loaded:
        cmpw    $0xAA55, LOADED + 510
        jne     no_volume
        ljmp    $0, $LOADED

no_volume:
        movw    $(text_volume - start + ORIGIN), %si
        jmp     say
no_entry:
        movw    $(text_entry - start + ORIGIN), %si
say:
        lodsb
        testb   %al, %al
        jz      halted
        movb    $0x0E, %ah
        movw    $7, %bx
        int     $0x10
        jmp     say
halted:
        hlt
        jmp     halted

text_entry:
        .asciz  "The table has not one active entry.\r\n"
text_read:
        .asciz  "The active volume cannot be read.\r\n"
text_volume:
        .asciz  "The active volume has no boot record.\r\n"
        .org    start + 440             // an error when it is longer than its place
lantern_mbr_code_end:
        .section .note.GNU-stack, "", %progbits
