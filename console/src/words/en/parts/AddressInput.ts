export const likeThis = () => "https://git.skerryline.example/tide-board.git";
