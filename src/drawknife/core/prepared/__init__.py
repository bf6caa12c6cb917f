"""A model made ready for questions: subjects numbered, namespaces, settings; and what a question
is.
"""
