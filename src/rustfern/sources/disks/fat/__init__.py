"""FAT12, FAT16, FAT32 and exFAT."""
