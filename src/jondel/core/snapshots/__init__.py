"""The store: where snapshots and trails are kept between sessions."""
