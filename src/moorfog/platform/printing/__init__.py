"""Pages on paper and tables as files: fonts, PDF, QR codes, templates, CSV, workbooks, archives."""
