"""Tachys: will every interrupt meet its time limit, and does the board agree?"""
