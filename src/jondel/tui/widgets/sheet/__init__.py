"""The sheet: a grid over any number of rows, of which only those around the visible ones are read.

``source`` says what a sheet draws, ``content`` holds what stands on its lines, ``columns`` where
its columns are, ``painter`` and ``drawing`` draw it, and ``sheet`` is the widget.
"""
