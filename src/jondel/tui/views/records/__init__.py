"""Records: tables as sheets, one or two side by side."""
