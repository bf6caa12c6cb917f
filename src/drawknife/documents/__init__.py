"""Documents for people: reports to be signed, and hand-over sheets, on paper, as a workbook, as a
page; and what comes back.
"""
