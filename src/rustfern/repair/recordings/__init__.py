"""Recordings that were never finished, or are damaged: their pictures and sounds found in the bytes, and tables made anew."""
