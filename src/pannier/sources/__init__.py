"""Where labelled pictures come from. Every source is a stream of rows with columns; rules say what they mean."""
