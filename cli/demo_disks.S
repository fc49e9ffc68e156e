/* The demo disks, as they lie in demo/: read by cli/demo.cpp. */
    .section .rodata
    .macro embed name, file
    .global \name
    .global \name\()_end
    .balign 16
\name:
    .incbin "\file"
\name\()_end:
    .byte 0
    .endm
    embed lantern_demo_station, "station.vdi.zst"
    embed lantern_demo_card, "camera-card.img.zst"
    embed lantern_demo_tower, "tower.img.zst"
    embed lantern_demo_server_a, "server-a.img.zst"
    embed lantern_demo_server_b, "server-b.img.zst"
    embed lantern_demo_server_c, "server-c.img.zst"
    embed lantern_demo_hashes, "contents.sha256"
    .section .note.GNU-stack,"",%progbits
