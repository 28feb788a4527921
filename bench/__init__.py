"""Ratios measured side by side in one run; absolute times on a shared machine mean little."""
