"""What applications leave where: facts as data, and what loads them."""
