"""Hard knocks by chance: edits, files, packets and acts that nobody thought of. `make fuzz` runs them for as long as it
is told; the tests run a share of them with fixed seeds."""
