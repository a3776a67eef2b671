"""Plain frozen types that every part of Jondel shares; this package imports no other part."""
