"""The engines Jondel reads, all behind the one protocol of ``engines.protocol``."""
