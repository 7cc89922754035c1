"""Documents of pages."""
