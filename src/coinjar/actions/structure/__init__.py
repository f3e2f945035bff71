"""Add, copy, rename and remove the parts that values are organised by: stages, services, the application.

A change is planned as the new contents of files, shown, and written all together or not at all.
"""
