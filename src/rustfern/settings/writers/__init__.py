"""Writers of settings, beside their readers: some bytes and what is wanted → the same bytes with just that changed."""
