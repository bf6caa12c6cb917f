"""What is measured, each figure as a ratio within one run. Run with ./run bench"""
