// No program of its own: see the project file.
return;
