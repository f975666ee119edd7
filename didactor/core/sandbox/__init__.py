"""Files from outside are hostile until decoded here: a subprocess without privileges, memory, time or room to do harm."""
