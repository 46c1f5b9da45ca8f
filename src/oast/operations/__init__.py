"""The use cases: what `import oast` offers, and all that the command line calls. Typed results, typed events, no terminal."""
