"""The store: shards, index, manifests, snapshots and names, all of them immutable files; see docs/format.md."""
