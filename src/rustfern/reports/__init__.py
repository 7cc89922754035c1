"""What is handed over: reports, tables, figures."""
