"""Numbers of the OpenVDB file format that its writer and its reader share."""

MAGIC = 0x56444220
FILE_VERSION = 224
LIBRARY = (10, 0)
ZIP, ACTIVE_MASK, BLOSC = 1, 2, 4
LEAF, LOWER, UPPER = 8, 128, 4096
