"""Feeding: order, plan, buffers, workers, and the feed itself."""
