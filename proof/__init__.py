"""The long tests: `make proof` runs them all and prints what they counted. A short form of each is in `make test`."""
