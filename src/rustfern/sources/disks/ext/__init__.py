"""ext2, ext3 and ext4."""
