DROP TABLE prompt_files;
DROP TABLE prompt_sets;
