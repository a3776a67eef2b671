"""Looking at records: windows over a table's rows, and values made safe to show."""
