"""The simulated photo studio: photo sets with exact truth.

No camera is at hand where this program is built and tested, so the studio stands in for camera,
lamp and turntable. Everything it makes is simulated and its files say so (EXIF field Software).
"""
