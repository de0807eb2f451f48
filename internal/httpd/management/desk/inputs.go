package desk

// RepositoryInput names a repository.
type RepositoryInput struct {
	Repository string `query:"repository" required:"true" maxLength:"255" doc:"Name of the repository"`
}

// NameInput names an account, a group or a namespace.
type NameInput struct {
	Name string `path:"name" maxLength:"255"`
}
