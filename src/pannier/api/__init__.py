"""What a user holds: stores, snapshots, records, treatments, feeds, batches. Thin: every verb is done on a lower floor."""
