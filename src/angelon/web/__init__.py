"""The pages and the addresses: Flask, one package an area."""
